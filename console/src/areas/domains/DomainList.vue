<script setup lang="ts">
import { computed } from 'vue'
import { ElButton, ElInput, ElOption, ElSelect } from 'element-plus'
import { api, ask, type Schemas } from '../../api/client'
import { useFilters } from '../../composables/useFilters'
import { useLoad } from '../../composables/useLoad'
import { useTyped } from '../../composables/useTyped'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import DomainName from '../../parts/DomainName.vue'
import PageHead from '../../parts/PageHead.vue'
import PageTurner from '../../parts/PageTurner.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import { inWords } from './serving'
import { t } from '../../language'
import { named } from '../../codes'

/** The domains of all accounts that one may see. */
type Domain = Schemas['DomainLine']
const { search, served_as, waiting, cursor, filtered, clearFilters } = useFilters(
  'search',
  'served_as',
  'waiting',
  'cursor',
)
const typed = useTyped(search)
const kinds = ['site', 'mirror', 'redirect', 'dns-only'] as const
const query = computed(() => ({
  search: search.value || undefined,
  served_as: kinds.find((k) => k === served_as.value),
  waiting: waiting.value === 'true' || undefined,
  cursor: cursor.value || undefined,
  limit: 50,
}))
const { data, refusal } = useLoad(() => ask(api.GET('/api/v1/domains', { params: { query: query.value } })), {
  on: query,
  live: true,
})

const columns: Column<Domain>[] = [
  { key: 'unicode', title: t('Domain'), long: true, fixed: true },
  { key: 'served_as', title: t('Served as'), text: (d) => named(d.served_as) },
  { key: 'shows', title: t('Shows'), wide: true, long: true },
  { key: 'account', title: t('Account'), wide: true },
  { key: 'server', title: t('Server'), wide: true, text: (d) => d.server },
  { key: 'template', title: t('Template'), wide: true, text: (d) => d.template ?? '' },
  { key: 'counts_as', title: t('Counts as'), wide: true, text: (d) => named(d.counts_as) },
]
const page = (d: Domain) => `/accounts/${d.account}/domains/${d.name}`
function reset() {
  typed.value = ''
  clearFilters()
}
</script>

<template>
  <PageHead :title="$t('Domains')" />
  <div class="filters">
    <ElInput
      v-model="typed"
      type="search"
      clearable
      :placeholder="$t('Part of the name')"
      :aria-label="$t('Search domains')"
    />
    <ElSelect v-model="served_as" clearable :placeholder="$t('Served as anything')" :aria-label="$t('Served as')"
      ><ElOption v-for="k in kinds" :key="k" :value="k" :label="named(k)"
    /></ElSelect>
    <ElSelect v-model="waiting" clearable :placeholder="$t('Proved or not')" :aria-label="$t('Proof')"
      ><ElOption value="true" :label="$t('waiting for its proof')"
    /></ElSelect>
  </div>
  <ProblemNote :refusal="refusal" />
  <DataTable
    :id="(d) => `${d.account} ${d.name}`"
    name="domains"
    :columns="columns"
    :rows="data?.domains"
    :to="page"
    :caption="$t('Domains in the order of their names')"
  >
    <template #unicode="{ row }"
      ><RouterLink :to="page(row)" class="name"><DomainName :name="row.unicode" /></RouterLink>{{ ' '
      }}<span v-if="row.proof?.waiting" class="warn">{{ $t('waiting for its proof') }}</span></template
    >
    <template #shows="{ row }"
      ><code v-if="row.root">{{ row.root }}</code
      ><template v-else>{{ inWords(row) }}</template></template
    >
    <template #account="{ row }"
      ><RouterLink :to="`/accounts/${row.account}`">{{ row.account }}</RouterLink></template
    >
    <template #empty>
      <div class="empty">
        <h2>{{ filtered ? $t('No domain fits') : $t('There are no domains yet') }}</h2>
        <p v-if="filtered">
          <ElButton size="small" @click="reset">{{ $t('Clear filters') }}</ElButton>
        </p>
        <p v-else>{{ $t('Each account is opened with its first one.') }}</p>
      </div>
    </template>
  </DataTable>
  <PageTurner
    v-if="data?.domains.length"
    :count="$t('{n} domain | {n} domains', { n: data.domains.length })"
    :next="data.next"
  />
</template>
