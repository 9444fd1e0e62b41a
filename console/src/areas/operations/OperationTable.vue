<script setup lang="ts">
import { computed } from 'vue'
import type { Schemas } from '../../api/client'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import StateMark from '../../parts/StateMark.vue'
import { moment, took } from '../../words'

/** Operations, newest first, without the columns that say nothing where they are shown. */
const props = defineProps<{ operations: Schemas['Operation'][] | undefined; without?: string[] }>()

const all: Column<Schemas['Operation']>[] = [
  { key: 'id', title: 'Number', right: true, text: (o) => String(o.id), wide: true },
  { key: 'kind', title: 'Kind' },
  { key: 'subject', title: 'Subject', long: true },
  { key: 'state', title: 'State' },
  { key: 'actor', title: 'By', text: (o) => o.actor, wide: true },
  { key: 'begun', title: 'Begun', text: (o) => moment(o.created_at), wide: true },
  { key: 'took', title: 'Took', right: true, text: (o) => took(o.started_at, o.finished_at), wide: true },
]
const columns = computed(() => all.filter((c) => !props.without?.includes(c.key)))
</script>

<template>
  <DataTable
    :id="(o) => o.id"
    :columns="columns"
    :rows="operations"
    :to="(o) => `/operations/${o.id}`"
    caption="Operations, newest first"
  >
    <template #kind="{ row }"
      ><RouterLink :to="`/operations/${row.id}`">{{ row.kind }}</RouterLink></template
    >
    <template #subject="{ row }"
      >{{ row.subject }}
      <div v-if="row.failure" class="quiet why">{{ row.failure }}</div></template
    >
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
