<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { ElButton, ElDialog, ElInput } from 'element-plus'
import { api, made, type Schemas } from '../../api/client'
import { useAct } from '../../composables/useAct'
import FormField from '../../parts/FormField.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import ServingFields from '../domains/ServingFields.vue'
import { fresh, told, type Serving } from '../domains/serving'

const shown = defineModel<boolean>({ required: true })
const props = defineProps<{ account: Schemas['AccountDetail'] }>()
const emit = defineEmits<{ started: [operation: number] }>()

const domain = ref('')
const serving = ref<Serving>(fresh())
const { refusal, busy, act } = useAct()
watch(shown, () => {
  domain.value = ''
  serving.value = fresh()
  refusal.value = undefined
})
const sites = computed(() => props.account.domains.filter((d) => d.served_as === 'site').map((d) => d.unicode))
const left = (key: string) => props.account.allowance.find((l) => l.key === key)?.left
const add = () =>
  act(async () => {
    const added = await made(
      api.POST('/api/v1/accounts/{account}/domains', {
        params: { path: { account: String(props.account.id) } },
        body: { domain: domain.value, ...told(serving.value) },
      }),
    )
    shown.value = false
    emit('started', added.operation)
  })
const hint = computed(() => {
  const counts = (['domains', 'subdomains', 'mirrors'] as const).map((key) => `${left(key) ?? 'any number of'} ${key}`)
  return `Left: ${counts.join(', ')}`
})
</script>

<template>
  <ElDialog v-model="shown" title="Add a domain" width="min(36rem, 94vw)">
    <form id="add-domain" class="stack" @submit.prevent="add">
      <FormField label="Domain" for="new-domain" :error="refusal?.field('domain')" :hint="hint">
        <ElInput id="new-domain" v-model="domain" spellcheck="false" autocapitalize="none" autocomplete="off" />
      </FormField>
      <ServingFields v-model="serving" :sites="sites" :home="account.home" :wrong="(n) => refusal?.field(n)" />
      <ProblemNote :refusal="refusal?.problem.errors?.length ? undefined : refusal" />
    </form>
    <template #footer>
      <ElButton @click="shown = false">Cancel</ElButton>
      <ElButton
        type="primary"
        native-type="submit"
        form="add-domain"
        :disabled="!domain.trim()"
        :loading="Boolean(busy)"
        >Add domain</ElButton
      >
    </template>
  </ElDialog>
</template>
