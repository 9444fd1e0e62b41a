<script setup lang="ts">
import { computed } from 'vue'
import { ElInput, ElOption, ElSelect } from 'element-plus'
import { api, ask, type Schemas } from '../../api/client'
import { useFilters } from '../../composables/useFilters'
import { useLoad } from '../../composables/useLoad'
import { useTyped } from '../../composables/useTyped'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import DomainName from '../../parts/DomainName.vue'
import PageHead from '../../parts/PageHead.vue'
import PageTurner from '../../parts/PageTurner.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import { number, t } from '../../language'
import { named } from '../../codes'

type Zone = Schemas['Zone']
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
  live: true,
})

const columns: Column<Zone>[] = [
  { key: 'unicode', title: t('Zone'), long: true, fixed: true },
  { key: 'account', title: t('Account'), wide: true },
  { key: 'hosted', title: t('DNS hosted'), text: (z) => named(z.hosted) },
  { key: 'dnssec', title: t('Signed'), text: (z) => (z.dnssec ? t('yes') : '–') },
  { key: 'own', title: t('Own records'), right: true, text: (z) => number(z.own) },
]
</script>

<template>
  <PageHead :title="$t('Zones')" />
  <div class="filters">
    <ElInput
      v-model="typed"
      type="search"
      clearable
      :placeholder="$t('Part of the name')"
      :aria-label="$t('Search zones')"
    />
    <ElSelect v-model="at" clearable :placeholder="$t('Anywhere')" :aria-label="$t('Where DNS is hosted')"
      ><ElOption value="here" :label="$t('here')" /><ElOption value="elsewhere" :label="$t('elsewhere')"
    /></ElSelect>
  </div>
  <ProblemNote :refusal="refusal" />
  <DataTable
    :id="(z) => z.name"
    name="zones"
    :columns="columns"
    :rows="data?.zones"
    :to="(z) => `/zones/${z.name}`"
    :caption="$t('Zones in the order of their names')"
  >
    <template #unicode="{ row }"
      ><RouterLink :to="`/zones/${row.name}`" class="name"><DomainName :name="row.unicode" /></RouterLink
    ></template>
    <template #account="{ row }"
      ><RouterLink :to="`/accounts/${row.account}`">{{ row.account }}</RouterLink></template
    >
    <template #empty>
      <div class="empty">
        <h2>{{ search || at ? $t('No zone fits') : $t('There are no zones yet') }}</h2>
        <p v-if="!search && !at">{{ $t('Each domain of an account brings its zone.') }}</p>
      </div>
    </template>
  </DataTable>
  <PageTurner
    v-if="data?.zones.length"
    :count="$t('{n} zone | {n} zones', { n: data.zones.length })"
    :next="data.next"
  />
</template>
