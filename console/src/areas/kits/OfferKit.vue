<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { ElOption, ElSelect } from 'element-plus'
import { api, ask, type Schemas } from '../../api/client'
import { useForm } from '../../composables/useForm'
import FormDialog from '../../parts/FormDialog.vue'
import FormField from '../../parts/FormField.vue'
import { refOf } from '../plans/names'

/** Chooses which plans offer a kit; it is shown while there is one. */
const props = defineProps<{ kit?: Schemas['Kit'] }>()
const emit = defineEmits<{ closed: []; done: [] }>()
const shown = computed({ get: () => !!props.kit, set: (yes) => !yes && emit('closed') })
const { form, dirty, general, error, busy, act, reset } = useForm(() => ({ plans: [] as string[] }), shown)
const plans = ref<string[]>([])
watch(
  () => props.kit,
  async (kit) => {
    if (!kit) return
    const all = await ask(api.GET('/api/v1/plans', { params: { query: { limit: 500 } } }))
    plans.value = all.plans.map((p) => refOf(p))
    reset({ plans: [...kit.plans] })
  },
)
const save = () =>
  act(async () => {
    await ask(
      api.PATCH('/api/v1/kits/{kit}', { params: { path: { kit: props.kit!.name } }, body: { plans: form.plans } }),
    )
    emit('done')
  }, 'save')
</script>

<template>
  <FormDialog
    id="offer"
    v-model="shown"
    :title="kit ? $t('Plans that offer {name}', { name: kit.title }) : ''"
    :action="$t('Save')"
    :busy="busy === 'save'"
    :dirty="dirty"
    :refusal="general"
    @submit="save"
  >
    <FormField
      :label="$t('Plans')"
      for="kit-plans"
      :error="error('plans')"
      :hint="$t('Accounts on them can install it. Sites that have it keep it.')"
    >
      <ElSelect id="kit-plans" v-model="form.plans" multiple filterable>
        <ElOption v-for="p in plans" :key="p" :value="p" :label="p" />
      </ElSelect>
    </FormField>
  </FormDialog>
</template>
