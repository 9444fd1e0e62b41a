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
})
const hasResellers = useResellers()

const columns = computed<Column<Customer>[]>(() => [
  { key: 'name', title: 'Customer', long: true },
  ...(isOperator.value ? [{ key: 'reseller', title: 'Of', text: (c: Customer) => c.reseller ?? '', wide: true }] : []),
  { key: 'contact', title: 'Contact', text: (c) => c.contact ?? '', wide: true, long: true },
  { key: 'email', title: 'Mail', text: (c) => c.email ?? '', wide: true, long: true },
  { key: 'accounts', title: 'Accounts', right: true, text: (c) => c.accounts.toLocaleString('en') },
])
function turn() {
  void router.push({ query: { ...router.currentRoute.value.query, cursor: data.value?.next } })
}
</script>

<template>
  <PageHead title="Customers"
    ><ElButton v-if="may('customers.change')" type="primary" @click="router.push('/customers/add')"
      >Add a customer</ElButton
    ></PageHead
  >
  <div class="filters">
    <ElInput
      v-model="typed"
      type="search"
      clearable
      placeholder="Part of the name or mail address"
      aria-label="Search customers"
    />
    <ResellerPick
      v-if="hasResellers"
      v-model="reseller"
      own="The operator's own"
      placeholder="Everybody's"
      label="Whose customers"
    />
  </div>
  <ProblemNote :refusal="refusal" />
  <DataTable
    :id="(c) => c.id"
    :columns="columns"
    :rows="data?.customers"
    :to="(c) => `/customers/${c.id}`"
    caption="Customers in the order of their names"
  >
    <template #name="{ row }"
      ><RouterLink :to="`/customers/${row.id}`" class="name">{{ row.name }}</RouterLink></template
    >
    <template #empty>
      <div class="empty">
        <h2>{{ search || reseller ? 'No customer fits' : 'There are no customers yet' }}</h2>
        <p v-if="!search && !reseller">
          <RouterLink to="/customers/add">Add the first one</RouterLink>, or add one with their first account.
        </p>
      </div>
    </template>
  </DataTable>
  <PageTurner
    v-if="data?.customers.length"
    :shown="data.customers.length"
    :what="data.customers.length === 1 ? 'customer' : 'customers'"
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
