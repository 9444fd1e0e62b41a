<script setup lang="ts">
import { computed } from 'vue'
import { ElButton, ElInput, ElOption, ElSelect } from 'element-plus'
import { useRouter } from 'vue-router'
import { api, ask, type Schemas } from '../../api/client'
import { useFilters } from '../../composables/useFilters'
import { useLoad } from '../../composables/useLoad'
import { useTyped } from '../../composables/useTyped'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import PageHead from '../../parts/PageHead.vue'
import PageTurner from '../../parts/PageTurner.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import StateMark from '../../parts/StateMark.vue'
import { until } from '../../words'
import { may } from '../session/state'

type Line = Schemas['CertificateLine']
const router = useRouter()
const { search, days, state, authority, cursor } = useFilters('search', 'days', 'state', 'authority', 'cursor')
const typed = useTyped(search)
const states = ['failing', 'expired', 'ordered', 'self-signed', 'uploaded', 'valid'] as const
const query = computed(() => ({
  search: search.value || undefined,
  days: Number(days.value) || undefined,
  state: states.find((s) => s === state.value),
  authority: authority.value || undefined,
  cursor: cursor.value || undefined,
  limit: 50,
}))
const { data, refusal } = useLoad(() => ask(api.GET('/api/v1/certificates', { params: { query: query.value } })), {
  on: query,
  every: 15000,
})
const { data: authorities } = useLoad(async () =>
  may('authorities.read') ? await ask(api.GET('/api/v1/authorities')) : undefined,
)
const filtered = computed(() => Boolean(search.value || days.value || state.value || authority.value))

const columns: Column<Line>[] = [
  { key: 'left', title: 'Left', right: true },
  { key: 'state', title: 'State' },
  { key: 'domain', title: 'Domain', long: true },
  { key: 'names', title: 'For', wide: true, long: true },
  { key: 'authority', title: 'Authority', wide: true, text: (l) => l.authority ?? '' },
  { key: 'problem', title: 'Reason', wide: true, long: true },
]
/** Names as far as they follow from the domain's: www, * and so on. */
const short = (l: Line) => l.names.map((n) => (n === l.domain ? 'itself' : n.replace(`.${l.domain}`, ''))).join(', ')
const page = (l: Line) => `/accounts/${l.account}/domains/${l.domain}/certificate`
function reset() {
  typed.value = ''
  void router.replace({ query: {} })
}
function turn() {
  void router.push({ query: { ...router.currentRoute.value.query, cursor: data.value?.next } })
}
</script>

<template>
  <PageHead title="Certificates"
    ><RouterLink v-if="may('authorities.read')" to="/authorities">Authorities</RouterLink></PageHead
  >
  <div class="filters">
    <ElInput
      v-model="typed"
      type="search"
      clearable
      placeholder="Part of the domain"
      aria-label="Search certificates"
    />
    <ElSelect v-model="days" clearable placeholder="Ends any time" aria-label="When they end"
      ><ElOption v-for="d in ['7', '14', '30', '90']" :key="d" :value="d" :label="`ends within ${d} days`"
    /></ElSelect>
    <ElSelect
      v-if="authorities?.authorities.length"
      v-model="authority"
      clearable
      placeholder="Any authority"
      aria-label="Authority"
      ><ElOption v-for="a in authorities.authorities" :key="a.name" :value="a.name" :label="a.name"
    /></ElSelect>
    <ElSelect v-model="state" clearable placeholder="Any state" aria-label="State"
      ><ElOption v-for="s in states" :key="s" :value="s" :label="s"
    /></ElSelect>
  </div>
  <ProblemNote :refusal="refusal" />
  <DataTable
    :id="(l) => l.domain"
    :columns="columns"
    :rows="data?.certificates"
    :to="page"
    caption="Sites with their certificates, those with the fewest days left first"
  >
    <template #left="{ row }"
      ><span :class="{ warn: row.state !== 'valid' && row.days_left !== null && row.days_left < 14 }">{{
        row.not_after ? until(row.not_after) : '–'
      }}</span></template
    >
    <template #state="{ row }"><StateMark :state="row.state" /></template>
    <template #domain="{ row }"
      ><RouterLink :to="page(row)" class="name">{{ row.unicode }}</RouterLink>
      {{ ' ' }}
      <span class="quiet">{{ row.account }}</span></template
    >
    <template #names="{ row }">{{ short(row) }}</template>
    <template #problem="{ row }"
      ><span class="reason" :title="row.problem">{{ row.problem }}</span></template
    >
    <template #empty>
      <div class="empty">
        <h2>{{ filtered ? 'No site fits' : 'There are no sites yet' }}</h2>
        <p v-if="filtered"><ElButton size="small" @click="reset">Clear filters</ElButton></p>
        <p v-else>Each site has a certificate from its first second on.</p>
      </div>
    </template>
  </DataTable>
  <PageTurner
    v-if="data?.certificates.length"
    :shown="data.certificates.length"
    :what="data.certificates.length === 1 ? 'site' : 'sites'"
    :next="data.next"
    :first="!cursor"
    @next="turn"
    @first="cursor = ''"
  />
</template>

<style scoped>
.name {
  font-weight: 600;
  color: inherit;
  text-decoration: none;
}
.reason {
  display: -webkit-box;
  overflow: hidden;
  -webkit-box-orient: vertical;
  -webkit-line-clamp: 2;
  color: var(--ink-2);
}
</style>
