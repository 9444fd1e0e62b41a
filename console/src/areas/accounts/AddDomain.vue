<script setup lang="ts">
import { ref, watch } from 'vue'
import { ElButton, ElDialog, ElInput } from 'element-plus'
import { api, made, newKey, type Schemas } from '../../api/client'
import { useAct } from '../../composables/useAct'
import FormField from '../../parts/FormField.vue'
import ProblemNote from '../../parts/ProblemNote.vue'

const shown = defineModel<boolean>({ required: true })
const props = defineProps<{ account: Schemas['AccountDetail'] }>()
const emit = defineEmits<{ started: [operation: number] }>()

const domain = ref('')
const { refusal, busy, act } = useAct()
watch(shown, () => {
  domain.value = ''
  refusal.value = undefined
})
const left = (key: string) => props.account.allowance.find((l) => l.key === key)?.left
const add = () =>
  act(async () => {
    const added = await made(api.POST('/api/v1/accounts/{account}/domains', { params: { path: { account: String(props.account.id) }, header: { 'Idempotency-Key': newKey() } }, body: { domain: domain.value } }))
    shown.value = false
    emit('started', added.operation)
  })
</script>

<template>
  <ElDialog v-model="shown" title="Add a domain" width="min(32rem, 94vw)">
    <form id="add-domain" class="stack" @submit.prevent="add">
      <FormField label="Domain" for="new-domain" :error="refusal?.field('domain')" :hint="`${left('domains') ?? 'any number of'} domains and ${left('subdomains') ?? 'any number of'} subdomains are left`">
        <ElInput id="new-domain" v-model="domain" spellcheck="false" autocapitalize="none" autocomplete="off" />
      </FormField>
      <ProblemNote :refusal="refusal?.field('domain') ? undefined : refusal" />
    </form>
    <template #footer>
      <ElButton @click="shown = false">Leave it</ElButton>
      <ElButton type="primary" native-type="submit" form="add-domain" :disabled="!domain.trim()" :loading="Boolean(busy)">Add it</ElButton>
    </template>
  </ElDialog>
</template>
