<script setup lang="ts">
import type { Schemas } from '../../api/client'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import { moment } from '../../words'
import EventFields from './EventFields.vue'
import { t } from '../../language'

/** Who did what, newest first. With by-actor, a name is a button that asks for what else they did. */
type Event = Schemas['Event']
defineProps<{ events: Event[] | undefined; byActor?: boolean }>()
const emit = defineEmits<{ actor: [name: string] }>()

const columns: Column<Event>[] = [
  { key: 'at', title: t('When'), long: true, text: (e) => moment(e.at) },
  { key: 'who', title: t('Who'), long: true },
  { key: 'action', title: t('What'), long: true },
  { key: 'subject', title: t('Subject'), long: true, text: (e) => e.subject },
  { key: 'fields', title: t('Before and after'), long: true, wide: true },
  { key: 'address', title: t('From'), wide: true, text: (e) => e.address },
]
</script>

<template>
  <DataTable :id="(e) => e.id" name="events" :columns="columns" :rows="events" :caption="$t('Events, newest first')">
    <template #who="{ row }"
      ><button v-if="byActor" type="button" class="link" @click="emit('actor', row.actor)">{{ row.actor }}</button
      ><template v-else>{{ row.actor }}</template
      >{{ ' ' }}<span v-if="row.on_behalf">{{ $t('as {on_behalf}', { on_behalf: row.on_behalf }) }}</span></template
    >
    <template #action="{ row }"
      ><span :title="row.action">{{ row.title }}</span></template
    >
    <template #fields="{ row }">
      <details v-if="row.fields.length > 3">
        <summary>{{ $t('{fields} values', { fields: row.fields.length }) }}</summary>
        <EventFields :fields="row.fields" />
      </details>
      <EventFields v-else :fields="row.fields" />
    </template>
    <template #empty><slot name="empty" /></template>
  </DataTable>
</template>
