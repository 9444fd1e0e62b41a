<script setup lang="ts">
import { ref, shallowRef } from 'vue'
import { ElButton } from 'element-plus'
import { api, ask, type Schemas } from '../../api/client'
import { useAct } from '../../composables/useAct'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import StateMark from '../../parts/StateMark.vue'
import { minuteOf } from '../../words'
import { t } from '../../language'

/** What became of the messages that the holder of a mailbox has sent, and of those to it. */
const props = defineProps<{ address: string }>()
const messages = shallowRef<Schemas['Message'][]>([])
const next = ref<string>()
const { refusal, busy, act } = useAct()
const load = () =>
  act(async () => {
    const page = await ask(
      api.GET('/api/v1/mailbox/messages', { params: { query: { cursor: next.value, limit: 20 } } }),
    )
    messages.value = [...messages.value, ...page.messages]
    next.value = page.next
  })
void load()
/** Whom it is from or to, besides the holder. */
function between(m: Schemas['Message']) {
  if (m.sign_in) return t('To {address}', { address: m.recipient })
  const sender = m.first_sender || m.sender || t('(failure notice)')
  return m.recipient === props.address
    ? t('From {address}', { address: sender })
    : t('From {address} to {recipient}', { address: sender, recipient: m.recipient })
}
const columns: Column<Schemas['Message']>[] = [
  { key: 'came', title: t('Came'), text: (m) => minuteOf(m.came_at), wide: true },
  { key: 'between', title: t('Message'), long: true },
  { key: 'outcome', title: t('Outcome') },
]
</script>

<template>
  <ProblemNote :refusal="refusal" />
  <DataTable :id="(m) => m.id" :columns="columns" :rows="messages" :caption="$t('Messages, newest first')">
    <template #between="{ row }"
      >{{ between(row) }}
      <div v-if="row.outcome !== 'forwarded'" class="quiet says">{{ row.says }}</div></template
    >
    <template #outcome="{ row }"><StateMark :state="row.outcome" /></template>
    <template #empty
      ><p v-if="!busy" class="quiet">{{ $t('No message within the last 30 days.') }}</p></template
    >
  </DataTable>
  <p v-if="next">
    <ElButton :loading="Boolean(busy)" @click="load">{{ $t('Older messages') }}</ElButton>
  </p>
</template>

<style scoped>
.says {
  overflow-wrap: anywhere;
}
</style>
