<script setup lang="ts">
import { computed } from 'vue'
import type { Schemas } from '../../api/client'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import StateMark from '../../parts/StateMark.vue'
import { moment, took } from '../../words'

/** Operations, newest first. */
const props = defineProps<{ operations: Schemas['Operation'][] | undefined; compact?: boolean }>()

const all: Column<Schemas['Operation']>[] = [
  { key: 'id', title: 'Number', right: true, text: (o) => String(o.id), wide: true },
  { key: 'kind', title: 'Kind', text: (o) => o.kind },
  { key: 'subject', title: 'Subject', long: true },
  { key: 'state', title: 'State' },
  { key: 'actor', title: 'By', text: (o) => o.actor, wide: true },
  { key: 'begun', title: 'Begun', text: (o) => moment(o.created_at), wide: true },
  { key: 'took', title: 'Took', right: true, text: (o) => took(o.started_at, o.finished_at), wide: true },
]
const columns = computed(() => (props.compact ? all.filter((c) => !['id', 'actor'].includes(c.key)) : all))
</script>

<template>
  <DataTable :columns="columns" :rows="operations" :id="(o) => o.id" :to="(o) => `/operations/${o.id}`" caption="Operations, newest first">
    <template #subject="{ row }"><RouterLink :to="`/operations/${row.id}`">{{ row.subject }}</RouterLink><div v-if="row.failure" class="quiet why">{{ row.failure }}</div></template>
    <template #state="{ row }"><StateMark :state="row.state" /></template>
    <template #empty><slot name="empty" /></template>
  </DataTable>
</template>

<style scoped>
.why {
  display: -webkit-box;
  max-width: 60rem;
  overflow: hidden;
  -webkit-line-clamp: 2;
  -webkit-box-orient: vertical;
}
</style>
