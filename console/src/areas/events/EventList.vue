<script setup lang="ts">
import { computed } from 'vue'
import { ElInput, ElOption, ElSelect } from 'element-plus'
import { named } from '../../codes'
import { api, ask } from '../../api/client'
import { useFilters } from '../../composables/useFilters'
import { useLoad } from '../../composables/useLoad'
import { useTyped } from '../../composables/useTyped'
import PageHead from '../../parts/PageHead.vue'
import PageTurner from '../../parts/PageTurner.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import EventTable from './EventTable.vue'

const { search, action, actor, account, since, until, cursor, clearFilters } = useFilters(
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
  live: true,
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
</script>

<template>
  <PageHead :title="$t('Events')" :about="$t('Who did what, newest first; nothing can change or delete them')">
    <a :href="exported('csv')" download>{{ $t('Export as CSV') }}</a>
    <a :href="exported('jsonl')" download>{{ $t('JSON lines') }}</a>
  </PageHead>
  <div class="filters">
    <ElInput
      v-model="typed"
      type="search"
      clearable
      :placeholder="$t('Part of what is recorded')"
      :aria-label="$t('Search events')"
    />
    <ElSelect v-model="action" clearable :placeholder="$t('Anything')" :aria-label="$t('Kind of action')"
      ><ElOption v-for="k in kinds" :key="k" :value="k" :label="named(k)"
    /></ElSelect>
    <label class="day"
      >{{ $t('since') }} <input :value="since" type="date" @change="since = ($event.target as HTMLInputElement).value"
    /></label>
    <label class="day"
      >{{ $t('until') }} <input :value="until" type="date" @change="until = ($event.target as HTMLInputElement).value"
    /></label>
  </div>
  <p v-if="actor || account" class="quiet">
    {{ actor ? $t('Only what {actor} did.', { actor }) : $t('Only what concerns {account}.', { account }) }}
    <button type="button" class="link" @click="clearFilters">{{ $t('Everything') }}</button>
  </p>
  <ProblemNote :refusal="refusal" />
  <EventTable :events="data?.events" by-actor @actor="actor = $event">
    <template #empty
      ><div class="empty">
        <h2>{{ $t('No event fits') }}</h2>
      </div></template
    >
  </EventTable>
  <PageTurner
    v-if="data?.events.length"
    :count="$t('{n} event | {n} events', { n: data.events.length })"
    :next="data.next"
  />
</template>

<style scoped>
.filters {
  grid-template-columns: minmax(12rem, 24rem) minmax(7rem, 10rem) max-content max-content;
}
.day {
  flex: 0 0 auto;
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
</style>
