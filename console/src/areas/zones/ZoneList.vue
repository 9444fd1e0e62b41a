<script setup lang="ts">
import { computed } from 'vue'
import { ElInput, ElOption, ElSelect } from 'element-plus'
import { useRouter } from 'vue-router'
import { api, ask, type Schemas } from '../../api/client'
import { useFilters } from '../../composables/useFilters'
import { useLoad } from '../../composables/useLoad'
import { useTyped } from '../../composables/useTyped'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import PageHead from '../../parts/PageHead.vue'
import PageTurner from '../../parts/PageTurner.vue'
import ProblemNote from '../../parts/ProblemNote.vue'

type Zone = Schemas['Zone']
const router = useRouter()
const { search, at, cursor } = useFilters('search', 'at', 'cursor')
const typed = useTyped(search)
const query = computed(() => ({
  search: search.value || undefined,
  hosted: (at.value || undefined) as 'here' | 'elsewhere' | undefined,
  cursor: cursor.value || undefined,
  limit: 50,
}))
const { data, refusal } = useLoad(() => ask(api.GET('/api/v1/zones', { params: { query: query.value } })), {
  on: query,
})

const columns: Column<Zone>[] = [
  { key: 'unicode', title: 'Zone', long: true },
  { key: 'account', title: 'Account', wide: true, text: (z) => z.account },
  { key: 'hosted', title: 'DNS hosted', text: (z) => z.hosted },
  { key: 'dnssec', title: 'Signed', text: (z) => (z.dnssec ? 'yes' : '–') },
  { key: 'own', title: 'Own records', right: true, text: (z) => z.own.toLocaleString('en') },
]
function turn() {
  void router.push({ query: { ...router.currentRoute.value.query, cursor: data.value?.next } })
}
</script>

<template>
  <PageHead title="Zones" />
  <div class="filters">
    <ElInput v-model="typed" type="search" clearable placeholder="Part of the name" aria-label="Search zones" />
    <ElSelect v-model="at" clearable placeholder="Anywhere" aria-label="Where DNS is hosted"
      ><ElOption value="here" label="here" /><ElOption value="elsewhere" label="elsewhere"
    /></ElSelect>
  </div>
  <ProblemNote :refusal="refusal" />
  <DataTable
    :id="(z) => z.name"
    :columns="columns"
    :rows="data?.zones"
    :to="(z) => `/zones/${z.name}`"
    caption="Zones in the order of their names"
  >
    <template #unicode="{ row }"
      ><RouterLink :to="`/zones/${row.name}`" class="name">{{ row.unicode }}</RouterLink></template
    >
    <template #empty>
      <div class="empty">
        <h2>{{ search || at ? 'No zone fits' : 'There are no zones yet' }}</h2>
        <p v-if="!search && !at">Each domain of an account brings its zone.</p>
      </div>
    </template>
  </DataTable>
  <PageTurner
    v-if="data?.zones.length"
    :shown="data.zones.length"
    :what="data.zones.length === 1 ? 'zone' : 'zones'"
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
</style>
