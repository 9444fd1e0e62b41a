<script setup lang="ts">
import { computed, watchEffect } from 'vue'
import { ElButton, ElInput } from 'element-plus'
import { useRouter } from 'vue-router'
import { api, ask, type Schemas } from '../../api/client'
import { useFilters } from '../../composables/useFilters'
import { useLoad } from '../../composables/useLoad'
import { useTyped } from '../../composables/useTyped'
import { amount } from '../../words'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import PageHead from '../../parts/PageHead.vue'
import PageTurner from '../../parts/PageTurner.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import StateMark from '../../parts/StateMark.vue'
import { may, session } from '../session/state'
import { number, t } from '../../language'
import { named } from '../../codes'

type Reseller = Schemas['Reseller']
const router = useRouter()
const { search, cursor } = useFilters('search', 'cursor')
const typed = useTyped(search)
const query = computed(() => ({ search: search.value || undefined, cursor: cursor.value || undefined, limit: 50 }))
const { data, refusal } = useLoad(() => ask(api.GET('/api/v1/resellers', { params: { query: query.value } })), {
  on: query,
  live: true,
})

// A reseller has one page of this kind: their own.
watchEffect(() => {
  if (session.value?.role === 'reseller' && session.value.reseller)
    void router.replace(`/resellers/${session.value.reseller}`)
})

const columns: Column<Reseller>[] = [
  { key: 'title', title: t('Reseller'), long: true },
  { key: 'customers', title: t('Customers'), right: true, wide: true, text: (r) => number(r.customers) },
  { key: 'accounts', title: t('Accounts'), right: true, text: (r) => number(r.accounts) },
  { key: 'plans', title: t('Plans'), right: true, wide: true, text: (r) => String(r.plans) },
  { key: 'disk', title: t('Share of disk'), right: true, wide: true, text: (r) => amount(r.limits.disk, 'bytes') },
  { key: 'measure', title: t('Measured as'), wide: true, text: (r) => named(r.measure) },
  { key: 'state', title: t('State') },
]
</script>

<template>
  <PageHead :title="$t('Resellers')"
    ><ElButton v-if="may('resellers.change')" type="primary" @click="router.push('/resellers/add')">{{
      $t('Add a reseller')
    }}</ElButton></PageHead
  >
  <div class="filters">
    <ElInput
      v-model="typed"
      type="search"
      clearable
      :placeholder="$t('Part of the name or title')"
      :aria-label="$t('Search resellers')"
    />
  </div>
  <ProblemNote :refusal="refusal" />
  <DataTable
    :id="(r) => r.name"
    :columns="columns"
    :rows="data?.resellers"
    :to="(r) => `/resellers/${r.name}`"
    :caption="$t('Resellers in the order of their names')"
  >
    <template #title="{ row }"
      ><RouterLink :to="`/resellers/${row.name}`" class="name">{{ row.title }}</RouterLink>
      {{ ' ' }}
      <span class="quiet">{{ row.name }}</span></template
    >
    <template #state="{ row }"><StateMark :state="row.suspension ? 'suspended' : 'active'" /></template>
    <template #empty>
      <div class="empty">
        <h2>{{ search ? $t('No reseller fits') : $t('There are no resellers yet') }}</h2>
        <p v-if="!search">
          {{
            $t(
              'A reseller gets a share of the installation, cuts it into plans of their own, and sells accounts under their own name.',
            )
          }}
        </p>
      </div>
    </template>
  </DataTable>
  <PageTurner
    v-if="data?.resellers.length"
    :count="$t('{n} reseller | {n} resellers', { n: data.resellers.length })"
    :next="data.next"
  />
</template>

<style scoped>
.name {
  font-weight: 600;
  color: inherit;
  text-decoration: none;
}
</style>
