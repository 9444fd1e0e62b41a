<script setup lang="ts">
import { computed } from 'vue'
import { ElInput, ElOption, ElSelect } from 'element-plus'
import { useRouter } from 'vue-router'
import { api, ask, type Schemas } from '../../api/client'
import { useFilters } from '../../composables/useFilters'
import { useLoad } from '../../composables/useLoad'
import { useTyped } from '../../composables/useTyped'
import { moment, valueName } from '../../words'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import PageHead from '../../parts/PageHead.vue'
import PageTurner from '../../parts/PageTurner.vue'
import ProblemNote from '../../parts/ProblemNote.vue'

const router = useRouter()
const { search, action, actor, account, since, until, cursor } = useFilters(
  'search',
  'action',
  'actor',
  'account',
  'since',
  'until',
  'cursor',
)
const typed = useTyped(search)
const day = (text: string, plus = 0) => {
  if (!text) return undefined
  const d = new Date(`${text}T00:00:00`)
  d.setDate(d.getDate() + plus)
  return d.toISOString()
}
const filters = computed(() => ({
  search: search.value || undefined,
  action: action.value || undefined,
  actor: actor.value || undefined,
  account: account.value || undefined,
  since: day(since.value),
  until: day(until.value, 1),
}))
const query = computed(() => ({ ...filters.value, cursor: cursor.value || undefined, limit: 50 }))
const { data, refusal } = useLoad(() => ask(api.GET('/api/v1/events', { params: { query: query.value } })), {
  on: query,
  every: 10_000,
})
const kinds = [
  'account',
  'brand',
  'customer',
  'domain',
  'exception',
  'handover',
  'person',
  'plan',
  'reseller',
  'server',
  'session',
  'settings',
  'token',
]
function exported(format: string) {
  const given = Object.entries({ ...filters.value, format }).filter((e): e is [string, string] => Boolean(e[1]))
  return `/api/v1/export/events?${new URLSearchParams(given)}`
}

type Event = Schemas['Event']
const columns: Column<Event>[] = [
  { key: 'at', title: 'When', text: (e) => moment(e.at) },
  { key: 'who', title: 'Who' },
  { key: 'action', title: 'What', text: (e) => e.action },
  { key: 'subject', title: 'Of', long: true, text: (e) => e.subject },
  { key: 'fields', title: 'Before and after', long: true, wide: true },
  { key: 'address', title: 'From', wide: true, text: (e) => e.address },
]
function turn() {
  void router.push({ query: { ...router.currentRoute.value.query, cursor: data.value?.next } })
}
</script>

<template>
  <PageHead title="Events" about="Who did what, newest first; nothing can change or delete them">
    <a :href="exported('csv')" download>Export as CSV</a>
    <a :href="exported('jsonl')" download>JSON lines</a>
  </PageHead>
  <div class="filters">
    <ElInput
      v-model="typed"
      type="search"
      clearable
      placeholder="Part of a name, action, subject or address"
      aria-label="Search events"
    />
    <ElSelect v-model="action" clearable placeholder="Anything" aria-label="Kind of action"
      ><ElOption v-for="k in kinds" :key="k" :value="k"
    /></ElSelect>
    <label class="day"
      >since <input :value="since" type="date" @change="since = ($event.target as HTMLInputElement).value"
    /></label>
    <label class="day"
      >until <input :value="until" type="date" @change="until = ($event.target as HTMLInputElement).value"
    /></label>
  </div>
  <p v-if="actor || account" class="quiet">
    Only {{ actor ? `what ${actor} did` : `what concerns ${account}` }}.
    <button type="button" class="link" @click="router.replace({ query: {} })">Everything</button>
  </p>
  <ProblemNote :refusal="refusal" />
  <DataTable :id="(e) => e.id" :columns="columns" :rows="data?.events" caption="Events, newest first">
    <template #who="{ row }"
      ><button type="button" class="link" @click="actor = row.actor">{{ row.actor }}</button
      ><span v-if="row.on_behalf"> as {{ row.on_behalf }}</span></template
    >
    <template #fields="{ row }">
      <details v-if="row.fields.length > 3">
        <summary>{{ row.fields.length }} values</summary>
        <div v-for="f in row.fields" :key="f.name">
          <span class="quiet">{{ valueName(f.name) }}</span> <del v-if="f.before">{{ f.before }}</del>{{
            f.before && f.after ? ' → ' : ' '
          }}{{ f.after }}
        </div>
      </details>
      <template v-else
        ><div v-for="f in row.fields" :key="f.name">
          <span class="quiet">{{ valueName(f.name) }}</span> <del v-if="f.before">{{ f.before }}</del>{{
            f.before && f.after ? ' → ' : ' '
          }}{{ f.after }}
        </div></template
      >
    </template>
    <template #empty
      ><div class="empty"><h2>No event fits</h2></div></template
    >
  </DataTable>
  <PageTurner
    v-if="data?.events.length"
    :shown="data.events.length"
    what="events"
    :next="data.next"
    :first="!cursor"
    @next="turn"
    @first="cursor = ''"
  />
</template>

<style scoped>
.filters {
  grid-template-columns: minmax(12rem, 24rem) minmax(7rem, 10rem) max-content max-content;
}
.day {
  display: flex;
  gap: 0.5rem;
  align-items: center;
  color: var(--ink-2);
}
input[type='date'] {
  height: 32px;
  padding: 0 0.6rem;
  font: inherit;
  color: var(--ink);
  background: var(--sheet);
  border: 1px solid var(--line);
  border-radius: 2px;
}
@media (max-width: 760px) {
  .filters {
    grid-template-columns: 1fr;
  }
}
del {
  color: var(--ink-2);
}
</style>
