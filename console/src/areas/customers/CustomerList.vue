<script setup lang="ts">
import { computed } from 'vue'
import { ElButton, ElInput } from 'element-plus'
import { useRouter } from 'vue-router'
import { api, ask, type Schemas } from '../../api/client'
import { useFilters } from '../../composables/useFilters'
import { useLoad } from '../../composables/useLoad'
import { useResellers } from '../../composables/useResellers'
import { useTyped } from '../../composables/useTyped'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import PageHead from '../../parts/PageHead.vue'
import PageTurner from '../../parts/PageTurner.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import ResellerPick from '../../parts/ResellerPick.vue'
import { isOperator, may } from '../session/state'
import { number, t } from '../../language'

type Customer = Schemas['Customer']
const router = useRouter()
const { search, reseller, cursor } = useFilters('search', 'reseller', 'cursor')
const typed = useTyped(search)
const query = computed(() => ({
  search: search.value || undefined,
  own: reseller.value === '-' || undefined,
  reseller: (reseller.value !== '-' && reseller.value) || undefined,
  cursor: cursor.value || undefined,
  limit: 50,
}))
const { data, refusal } = useLoad(() => ask(api.GET('/api/v1/customers', { params: { query: query.value } })), {
  on: query,
  live: true,
})
const hasResellers = useResellers()

const columns = computed<Column<Customer>[]>(() => [
  { key: 'name', title: t('Customer'), long: true },
  ...(isOperator.value
    ? [{ key: 'reseller', title: t('Of'), text: (c: Customer) => c.reseller ?? '', wide: true }]
    : []),
  { key: 'contact', title: t('Contact'), text: (c) => c.contact ?? '', wide: true, long: true },
  { key: 'email', title: t('Mail'), text: (c) => c.email ?? '', wide: true, long: true },
  { key: 'accounts', title: t('Accounts'), right: true, text: (c) => number(c.accounts) },
])
</script>

<template>
  <PageHead :title="$t('Customers')"
    ><ElButton v-if="may('customers.change')" type="primary" @click="router.push('/customers/add')">{{
      $t('Add a customer')
    }}</ElButton></PageHead
  >
  <div class="filters">
    <ElInput
      v-model="typed"
      type="search"
      clearable
      :placeholder="$t('Part of the name or mail address')"
      :aria-label="$t('Search customers')"
    />
    <ResellerPick
      v-if="hasResellers"
      v-model="reseller"
      :own="$t(`The operator's own`)"
      :placeholder="$t(`Everybody's`)"
      :label="$t('Whose customers')"
    />
  </div>
  <ProblemNote :refusal="refusal" />
  <DataTable
    :id="(c) => c.id"
    :columns="columns"
    :rows="data?.customers"
    :to="(c) => `/customers/${c.id}`"
    :caption="$t('Customers in the order of their names')"
  >
    <template #name="{ row }"
      ><RouterLink :to="`/customers/${row.id}`" class="name">{{ row.name }}</RouterLink></template
    >
    <template #empty>
      <div class="empty">
        <h2>{{ search || reseller ? $t('No customer fits') : $t('There are no customers yet') }}</h2>
        <p v-if="!search && !reseller">
          <RouterLink to="/customers/add">{{ $t('Add the first one') }}</RouterLink>
          <span class="quiet">{{ $t('One can be added with their first account, too.') }}</span>
        </p>
      </div>
    </template>
  </DataTable>
  <PageTurner
    v-if="data?.customers.length"
    :count="$t('{n} customer | {n} customers', { n: data.customers.length })"
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
