<script setup lang="ts">
import { computed } from 'vue'
import type { Schemas } from '../../api/client'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import DomainName from '../../parts/DomainName.vue'
import { inWords } from '../domains/serving'
import { t } from '../../language'
import { named } from '../../codes'

/** Domains of an account, with the columns that matter where they are shown. */
type Domain = Schemas['Domain']
const props = defineProps<{ account: string; domains: Domain[]; columns: string[]; zones?: Schemas['Zone'][] }>()

/** The zone that a name is in: the closest one above it. */
const zoneOf = (d: Domain) =>
  props.zones
    ?.filter((z) => d.name === z.name || d.name.endsWith(`.${z.name}`))
    .sort((a, b) => b.name.length - a.name.length)[0]

const all: Column<Domain>[] = [
  { key: 'unicode', title: t('Domain'), long: true, fixed: true },
  { key: 'served_as', title: t('Served as'), text: (d) => named(d.served_as) },
  { key: 'root', title: t('Shows'), wide: true, long: true },
  { key: 'template', title: t('Template'), wide: true, text: (d) => d.template ?? '' },
  { key: 'own', title: t('Own settings'), right: true, wide: true, text: (d) => String(d.own || '') },
  { key: 'folders', title: t('Protected folders'), right: true, wide: true, text: (d) => String(d.folders || '') },
  { key: 'counts_as', title: t('Counts as'), wide: true, text: (d) => named(d.counts_as) },
  { key: 'zone', title: t('Zone'), wide: true, long: true },
  { key: 'hosted', title: t('DNS hosted'), text: (d) => named(zoneOf(d)?.hosted ?? '') },
  { key: 'signed', title: t('Signed'), wide: true, text: (d) => (zoneOf(d)?.dnssec ? t('yes') : '') },
]
const columns = computed(() => all.filter((c) => c.key === 'unicode' || props.columns.includes(c.key)))
const page = (d: Domain) => `/accounts/${props.account}/domains/${d.name}`
</script>

<template>
  <DataTable :id="(d) => d.name" :columns="columns" :rows="domains" :to="page" :caption="$t('Domains of the account')">
    <template #unicode="{ row }"
      ><RouterLink :to="page(row)" class="name"><DomainName :name="row.unicode" /></RouterLink>{{ ' '
      }}<span v-if="row.main" class="quiet">{{ $t('main') }}</span
      >{{ ' ' }}<span v-if="row.proof?.waiting" class="warn">{{ $t('waiting for its proof') }}</span></template
    >
    <template #root="{ row }"
      ><code v-if="row.root">{{ row.root }}</code
      ><template v-else>{{ inWords(row) }}</template></template
    >
    <template #zone="{ row }"
      ><RouterLink v-if="zoneOf(row)" :to="`/zones/${zoneOf(row)!.name}`">{{
        zoneOf(row)!.unicode
      }}</RouterLink></template
    >
    <template #empty><slot name="empty" /></template>
  </DataTable>
</template>
