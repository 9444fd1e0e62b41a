<script setup lang="ts">
import { computed } from 'vue'
import type { Schemas } from '../../api/client'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import DomainName from '../../parts/DomainName.vue'
import StateMark from '../../parts/StateMark.vue'
import { moment, took } from '../../words'
import { t } from '../../language'

/** Operations, newest first, without the columns that say nothing where they are shown. */
const props = defineProps<{ operations: Schemas['Operation'][] | undefined; without?: string[] }>()

const all: Column<Schemas['Operation']>[] = [
  { key: 'id', title: t('Number'), right: true, text: (o) => String(o.id), wide: true },
  { key: 'kind', title: t('Kind'), long: true },
  { key: 'subject', title: t('Subject'), long: true },
  { key: 'state', title: t('State') },
  { key: 'actor', title: t('By'), text: (o) => o.actor, wide: true },
  { key: 'begun', title: t('Begun'), long: true, text: (o) => moment(o.created_at), wide: true },
  { key: 'took', title: t('Took'), right: true, text: (o) => took(o.started_at, o.finished_at), wide: true },
]
const columns = computed(() => all.filter((c) => !props.without?.includes(c.key)))
</script>

<template>
  <DataTable
    :id="(o) => o.id"
    :columns="columns"
    :rows="operations"
    :to="(o) => `/operations/${o.id}`"
    :caption="$t('Operations, newest first')"
  >
    <template #kind="{ row }"
      ><RouterLink :to="`/operations/${row.id}`">{{ row.title }}</RouterLink></template
    >
    <template #subject="{ row }"
      ><DomainName :name="row.subject" />
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
