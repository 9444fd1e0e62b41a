<script setup lang="ts">
import { computed } from 'vue'
import { ElButton, ElInput, ElOption, ElSelect } from 'element-plus'
import { api, ask, type Schemas } from '../../api/client'
import { useFilters } from '../../composables/useFilters'
import { useLoad } from '../../composables/useLoad'
import { useTyped } from '../../composables/useTyped'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import PageHead from '../../parts/PageHead.vue'
import PageTurner from '../../parts/PageTurner.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import { amount } from '../../words'
import { t } from '../../language'
import { may } from '../session/state'
import { engines as titles, growths } from '../accounts/databases'

/** The databases of all accounts, the biggest first, and for operators the engines that they are in. */
const { search, engine, server, limited, cursor, filtered, clearFilters } = useFilters(
  'search',
  'engine',
  'server',
  'limited',
  'cursor',
)
const typed = useTyped(search)
const kinds = ['mariadb', 'postgresql'] as const
const query = computed(() => ({
  search: search.value || undefined,
  engine: kinds.find((k) => k === engine.value),
  server: server.value || undefined,
  limited: limited.value === 'yes' || undefined,
  cursor: cursor.value || undefined,
  limit: 50,
}))
const { data, refusal } = useLoad(() => ask(api.GET('/api/v1/databases', { params: { query: query.value } })), {
  on: query,
  live: true,
  every: 10_000,
})
const { data: places, refusal: unknown } = useLoad(
  async () => (may('servers.read') ? await ask(api.GET('/api/v1/database-engines')) : undefined),
  { live: true, every: 10_000 },
)
const servers = computed(() => [...new Set(places.value?.engines?.map((e) => e.server) ?? [])])

type Engine = Schemas['Engine']
function state(e: Engine) {
  if (!e.reachable) return t('the server does not answer')
  if (!e.version) return t('not installed')
  return e.running ? t('running') : t('not running')
}
const engineColumns: Column<Engine>[] = [
  { key: 'engine', title: t('Engine'), text: (e) => `${e.title} ${e.version}` },
  { key: 'server', title: t('Server'), text: (e) => e.server },
  { key: 'state', title: t('State') },
  { key: 'accounts', title: t('Accounts'), right: true, wide: true, text: (e) => amount(e.accounts, 'count') },
  { key: 'databases', title: t('Databases'), right: true, text: (e) => amount(e.databases, 'count') },
  { key: 'size', title: t('Size'), right: true, text: (e) => amount(e.size, 'bytes') },
  { key: 'limited', title: t('Over the limit'), right: true },
]
type Placed = Schemas['PlacedDatabase']
const columns = computed<Column<Placed>[]>(() => [
  { key: 'name', title: t('Database'), long: true },
  { key: 'size', title: t('Size'), right: true, text: (d) => (d.size == null ? '–' : amount(d.size, 'bytes')) },
  { key: 'engine', title: t('Engine'), wide: true, text: (d) => titles[d.engine] ?? d.engine },
  { key: 'account', title: t('Account'), wide: true },
  { key: 'customer', title: t('Customer'), wide: true, long: true, text: (d) => d.customer },
  ...(may('servers.read') ? [{ key: 'server', title: t('Server'), wide: true, text: (d: Placed) => d.server }] : []),
  { key: 'growth', title: t('Growth'), text: (d: Placed) => growths[d.growth] },
])
function reset() {
  typed.value = ''
  clearFilters()
}
const over = (e: Engine) => ({ query: { server: e.server, engine: e.engine, limited: 'yes' } })
</script>

<template>
  <PageHead :title="$t('Databases')" />
  <ProblemNote :refusal="unknown" />
  <DataTable
    v-if="places?.engines?.length"
    :id="(e) => `${e.server} ${e.engine}`"
    :columns="engineColumns"
    :rows="places.engines"
    :caption="$t('Engines')"
  >
    <template #state="{ row }"
      ><span :class="{ bad: !row.running || !row.reachable }">{{ state(row) }}</span></template
    >
    <template #limited="{ row }"
      ><RouterLink v-if="row.limited" :to="over(row)">{{
        $t('{n} account | {n} accounts', { n: row.limited })
      }}</RouterLink
      ><span v-else class="quiet">{{ $t('none') }}</span></template
    >
  </DataTable>
  <div class="filters">
    <ElInput
      v-model="typed"
      type="search"
      clearable
      :placeholder="$t('Part of the name')"
      :aria-label="$t('Search databases')"
    />
    <ElSelect v-model="engine" clearable :placeholder="$t('Any engine')" :aria-label="$t('Engine')"
      ><ElOption v-for="k in kinds" :key="k" :value="k" :label="titles[k]"
    /></ElSelect>
    <ElSelect
      v-if="servers.length > 1"
      v-model="server"
      clearable
      :placeholder="$t('Any server')"
      :aria-label="$t('Server')"
      ><ElOption v-for="s in servers" :key="s" :value="s" :label="s"
    /></ElSelect>
    <ElSelect v-model="limited" clearable :placeholder="$t('Any state')" :aria-label="$t('Limit')"
      ><ElOption value="yes" :label="$t('over the limit')"
    /></ElSelect>
  </div>
  <ProblemNote :refusal="refusal" />
  <DataTable :id="(d) => d.name" :columns="columns" :rows="data?.databases" :caption="$t('Databases')">
    <template #name="{ row }"
      ><RouterLink :to="`/accounts/${row.account}/databases`"
        ><code>{{ row.name }}</code></RouterLink
      ></template
    >
    <template #account="{ row }"
      ><RouterLink :to="`/accounts/${row.account}`">{{ row.account }}</RouterLink></template
    >
    <template #growth="{ row }"
      ><span :class="{ bad: row.growth }">{{ growths[row.growth] }}</span></template
    >
    <template #empty
      ><div class="empty">
        <h2>{{ filtered ? $t('No database fits') : $t('There are no databases yet') }}</h2>
        <p v-if="filtered">
          <ElButton size="small" @click="reset">{{ $t('Clear filters') }}</ElButton>
        </p>
        <p v-else>{{ $t('Databases are added in an account, or come with a kit.') }}</p>
      </div></template
    >
  </DataTable>
  <PageTurner
    v-if="data?.databases?.length"
    :count="$t('{n} database | {n} databases', { n: data.databases.length })"
    :next="data.next"
  />
</template>

<style scoped>
.filters {
  margin-top: 1.6rem;
}
.bad {
  color: var(--signal);
}
</style>
