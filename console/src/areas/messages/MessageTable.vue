<script setup lang="ts">
import type { Schemas } from '../../api/client'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import StateMark from '../../parts/StateMark.vue'
import { minuteOf } from '../../words'
import { t } from '../../language'

/** What became of messages, newest first. */
defineProps<{ messages: Schemas['Message'][] | undefined }>()
const columns: Column<Schemas['Message']>[] = [
  { key: 'came', title: t('Came'), text: (m) => minuteOf(m.came_at), wide: true },
  { key: 'sender', title: t('From'), long: true },
  { key: 'recipient', title: t('To'), long: true },
  { key: 'outcome', title: t('Outcome') },
]
</script>

<template>
  <DataTable
    :id="(m) => m.id"
    :columns="columns"
    :rows="messages"
    :to="(m) => `/messages/${m.id}`"
    :caption="$t('Messages, newest first')"
  >
    <template #sender="{ row }">{{ row.first_sender || row.sender || $t('(failure notice)') }}</template>
    <template #recipient="{ row }"
      ><RouterLink :to="`/messages/${row.id}`">{{ row.recipient }}</RouterLink>
      <div v-if="row.outcome !== 'forwarded'" class="quiet says">{{ row.says }}</div></template
    >
    <template #outcome="{ row }"><StateMark :state="row.outcome" /></template>
    <template #empty><slot name="empty" /></template>
  </DataTable>
</template>

<style scoped>
.says {
  display: -webkit-box;
  max-width: 46rem;
  overflow: hidden;
  overflow-wrap: anywhere;
  -webkit-line-clamp: 2;
  -webkit-box-orient: vertical;
}
</style>
