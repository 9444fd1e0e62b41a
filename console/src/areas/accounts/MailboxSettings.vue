<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { ElDialog } from 'element-plus'
import { api, made, type Schemas } from '../../api/client'
import FailedSignIns from '../../parts/FailedSignIns.vue'
import MailSettings from '../../parts/MailSettings.vue'
import ProgramPasswords from '../../parts/ProgramPasswords.vue'

/** What a mail program needs for a mailbox, and its passwords for single programs. */
const props = defineProps<{ account: string; mailbox?: Schemas['Mailbox']; server: string; change: boolean }>()
const emit = defineEmits<{ done: [operation: number]; close: [] }>()
const shown = ref(false)
watch(
  () => props.mailbox,
  (now) => (shown.value = Boolean(now)),
)
watch(shown, (now) => now || emit('close'))
const at = () => ({ account: props.account, mailbox: props.mailbox?.address ?? '' })
const profile = computed(() => `/api/v1/accounts/${at().account}/mailboxes/${encodeURIComponent(at().mailbox)}/profile`)
async function add(name: string) {
  const outcome = await made(
    api.POST('/api/v1/accounts/{account}/mailboxes/{mailbox}/passwords', { params: { path: at() }, body: { name } }),
  )
  emit('done', outcome.operation)
  return outcome
}
async function remove(program: string) {
  const outcome = await made(
    api.DELETE('/api/v1/accounts/{account}/mailboxes/{mailbox}/passwords/{program}', {
      params: { path: { ...at(), program } },
    }),
  )
  emit('done', outcome.operation)
}
</script>

<template>
  <ElDialog v-model="shown" :title="mailbox?.unicode ?? ''" width="min(36rem, 94vw)">
    <template v-if="mailbox && shown">
      <MailSettings :address="mailbox.address" :server="server" :profile="profile" />
      <FailedSignIns :failures="mailbox.failed_sign_ins" />
      <h3>{{ $t('Passwords for programs') }}</h3>
      <ProgramPasswords :programs="mailbox.programs" :change="change" :add="add" :remove="remove" />
    </template>
  </ElDialog>
</template>
