<script setup lang="ts">
import { computed, watch } from 'vue'
import { ElCheckbox } from 'element-plus'
import { api, foreseen, made, type Schemas } from '../../api/client'
import { useForm } from '../../composables/useForm'
import FormDialog from '../../parts/FormDialog.vue'
import FormField from '../../parts/FormField.vue'
import PlanPick from '../../parts/PlanPick.vue'
import PreviewNote from '../../parts/PreviewNote.vue'

/** Puts accounts on another plan, after showing what they gain, lose and would be over. */
const shown = defineModel<boolean>({ required: true })
const props = defineProps<{ accounts: Schemas['Account'][] }>()
const emit = defineEmits<{ done: [operation: number | undefined] }>()

const { form, dirty, preview, refusal, busy, act, loadPreview } = useForm(() => ({ plan: '', drop: false }), shown)
/** Of other resellers, no plan fits; accounts of several have only the operator's in common. */
const whose = computed(() =>
  props.accounts.every((a) => a.reseller === props.accounts[0]?.reseller) ? (props.accounts[0]?.reseller ?? '') : '',
)
const excepted = computed(() => props.accounts.some((a) => a.exceptions > 0))

const body = computed(() => ({
  accounts: props.accounts.map((a) => String(a.id)),
  drop_exceptions: form.drop || undefined,
}))
watch(form, () => {
  if (form.plan)
    void loadPreview(() =>
      foreseen(
        api.POST('/api/v1/plans/{plan}/accounts', {
          params: { path: { plan: form.plan }, query: { preview: true } },
          body: body.value,
        }),
      ),
    )
})
const change = () =>
  act(async () => {
    const shifted = await made(
      api.POST('/api/v1/plans/{plan}/accounts', { params: { path: { plan: form.plan } }, body: body.value }),
    )
    shown.value = false
    emit('done', shifted.operation || undefined)
  }, 'change')
</script>

<template>
  <FormDialog
    id="shift"
    v-model="shown"
    :title="
      accounts.length === 1
        ? $t('Another plan for {name}', { name: accounts[0]?.name })
        : $t('Another plan for {n} account | Another plan for {n} accounts', { n: accounts.length })
    "
    :width="44"
    :action="$t('Change the plan')"
    :ready="!!preview"
    :busy="busy === 'change'"
    :dirty="dirty"
    :refusal="refusal"
    @submit="change"
  >
    <FormField :label="$t('Plan')" for="shift-plan">
      <PlanPick id="shift-plan" v-model="form.plan" :whose="whose" :placeholder="$t('Choose a plan')" />
    </FormField>
    <ElCheckbox v-if="excepted" v-model="form.drop">{{ $t('Remove what was set by hand, too') }}</ElCheckbox>
    <p class="quiet">{{ $t('Nothing is ever deleted: what is over a new limit cannot grow.') }}</p>
    <PreviewNote v-if="preview" :preview="{ ...preview, records: [], steps: [], changes: [] }" />
  </FormDialog>
</template>
