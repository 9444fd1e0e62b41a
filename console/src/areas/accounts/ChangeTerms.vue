<script setup lang="ts">
import { computed, reactive, shallowRef, watch } from 'vue'
import { ElButton, ElCheckbox, ElDialog, ElOption, ElSelect } from 'element-plus'
import { api, ask, foreseen, made, type Schemas } from '../../api/client'
import { useAct } from '../../composables/useAct'
import { useLoad } from '../../composables/useLoad'
import FormField from '../../parts/FormField.vue'
import PreviewNote from '../../parts/PreviewNote.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import { refOf } from '../plans/names'

/** Puts accounts on another plan, after showing what they gain, lose and would be over. */
const shown = defineModel<boolean>({ required: true })
const props = defineProps<{ accounts: Schemas['Account'][] }>()
const emit = defineEmits<{ done: [operation: number | undefined] }>()

const form = reactive({ plan: '', drop: false })
const preview = shallowRef<Schemas['Preview']>()
const { refusal, busy, act } = useAct()
const { data: plans } = useLoad(() => ask(api.GET('/api/v1/plans', { params: { query: { limit: 500 } } })))
/** Of other resellers, no plan fits. */
const fitting = computed(() => plans.value?.plans.filter((p) => !p.reseller || props.accounts.every((a) => a.reseller === p.reseller)))
const excepted = computed(() => props.accounts.some((a) => a.exceptions > 0))

watch(shown, () => {
  Object.assign(form, { plan: '', drop: false })
  preview.value = undefined
  refusal.value = undefined
})
const body = computed(() => ({ accounts: props.accounts.map((a) => String(a.id)), drop_exceptions: form.drop || undefined }))
watch(form, () => {
  preview.value = undefined
  if (form.plan)
    void act(async () => {
      preview.value = await foreseen(api.POST('/api/v1/plans/{plan}/accounts', { params: { path: { plan: form.plan }, query: { preview: true } }, body: body.value }))
    }, 'preview')
})
const change = () =>
  act(async () => {
    const shifted = await made(api.POST('/api/v1/plans/{plan}/accounts', { params: { path: { plan: form.plan } }, body: body.value }))
    shown.value = false
    emit('done', shifted.operation || undefined)
  }, 'change')
</script>

<template>
  <ElDialog v-model="shown" :title="accounts.length === 1 ? `Another plan for ${accounts[0]?.name}` : `Another plan for ${accounts.length} accounts`" width="min(44rem, 94vw)">
    <form id="shift" class="stack" @submit.prevent="change">
      <FormField label="Plan" for="shift-plan">
        <ElSelect id="shift-plan" v-model="form.plan" filterable placeholder="Choose a plan"><ElOption v-for="p in fitting" :key="refOf(p)" :value="refOf(p)" /></ElSelect>
      </FormField>
      <ElCheckbox v-if="excepted" v-model="form.drop">Remove what was set by hand, too</ElCheckbox>
      <p class="quiet">Nothing is ever deleted: what is over a new limit cannot grow.</p>
      <PreviewNote v-if="preview" :preview="{ ...preview, records: [], steps: [], changes: [] }" />
      <ProblemNote :refusal="refusal" />
    </form>
    <template #footer>
      <ElButton @click="shown = false">Leave it</ElButton>
      <ElButton type="primary" native-type="submit" form="shift" :disabled="!preview" :loading="busy === 'change'">Change the plan</ElButton>
    </template>
  </ElDialog>
</template>
