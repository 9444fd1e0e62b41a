<script setup lang="ts">
import { computed } from 'vue'
import type { Schemas } from '../../api/client'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import DomainName from '../../parts/DomainName.vue'
import StateMark from '../../parts/StateMark.vue'
import { until } from '../../words'
import { t } from '../../language'

/** Sites with their certificates, those with the fewest days left first. */
type Line = Schemas['CertificateLine']
const props = defineProps<{ certificates: Line[] | undefined; withoutAccount?: boolean }>()

const columns = computed<Column<Line>[]>(() => [
  { key: 'left', title: t('Left'), right: true },
  { key: 'state', title: t('State') },
  { key: 'domain', title: t('Domain'), long: true, fixed: true },
  ...(props.withoutAccount ? [] : [{ key: 'account', title: t('Account'), wide: true }]),
  { key: 'names', title: t('For'), wide: true, long: true },
  { key: 'authority', title: t('Authority'), wide: true, text: (l: Line) => l.authority ?? '' },
  { key: 'problem', title: t('Reason'), wide: true, long: true },
])
/** Names as far as they follow from the domain's: www, * and so on. */
const short = (l: Line) => l.names.map((n) => (n === l.domain ? t('itself') : n.replace(`.${l.domain}`, ''))).join(', ')
const page = (l: Line) => `/accounts/${l.account}/domains/${l.domain}/certificate`
</script>

<template>
  <DataTable
    :id="(l) => l.domain"
    name="certificates"
    :columns="columns"
    :rows="certificates"
    :to="page"
    :caption="$t('Sites with their certificates, those with the fewest days left first')"
  >
    <template #left="{ row }"
      ><span :class="{ warn: row.state !== 'valid' && row.days_left !== null && row.days_left < 14 }">{{
        row.not_after ? until(row.not_after) : '–'
      }}</span></template
    >
    <template #state="{ row }"><StateMark :state="row.state" /></template>
    <template #domain="{ row }"
      ><RouterLink :to="page(row)" class="name"><DomainName :name="row.unicode" /></RouterLink
    ></template>
    <template #account="{ row }"
      ><RouterLink :to="`/accounts/${row.account}`">{{ row.account }}</RouterLink></template
    >
    <template #names="{ row }">{{ short(row) }}</template>
    <template #problem="{ row }"
      ><span class="reason" :title="row.problem">{{ row.problem }}</span></template
    >
    <template #empty><slot name="empty" /></template>
  </DataTable>
</template>

<style scoped>
.reason {
  display: -webkit-box;
  overflow: hidden;
  -webkit-box-orient: vertical;
  -webkit-line-clamp: 2;
  color: var(--ink-2);
}
</style>
