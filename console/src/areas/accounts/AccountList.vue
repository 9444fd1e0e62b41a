<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { ElButton, ElInput, ElOption, ElSelect } from 'element-plus'
import { useRouter } from 'vue-router'
import { api, ask, type Schemas } from '../../api/client'
import { useFilters } from '../../composables/useFilters'
import { useLoad } from '../../composables/useLoad'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import FillBar from '../../parts/FillBar.vue'
import PageHead from '../../parts/PageHead.vue'
import PageTurner from '../../parts/PageTurner.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import StateMark from '../../parts/StateMark.vue'

type Account = Schemas['Account']

const router = useRouter()
const { search, state, server, plan, cursor } = useFilters('search', 'state', 'server', 'plan', 'cursor')

// The field follows the keys, the address a moment later.
const typed = ref(search.value)
watch(search, (now) => (typed.value = now))
let timer: ReturnType<typeof setTimeout> | undefined
watch(typed, (now) => {
  clearTimeout(timer)
  timer = setTimeout(() => (search.value = now.trim()), 200)
})

const query = computed(() => ({
  search: search.value || undefined,
  state: (state.value || undefined) as Account['state'] | undefined,
  server: server.value || undefined,
  plan: plan.value || undefined,
  cursor: cursor.value || undefined,
  limit: 50,
}))
const { data, refusal } = useLoad(() => ask(api.GET('/api/v1/accounts', { params: { query: query.value } })), { on: query, every: 10_000 })
const { data: servers } = useLoad(() => ask(api.GET('/api/v1/servers')))
const { data: plans } = useLoad(() => ask(api.GET('/api/v1/plans', { params: { query: { limit: 500 } } })))
const filtered = computed(() => Boolean(search.value || state.value || server.value || plan.value))

const columns: Column<Account>[] = [
  { key: 'domain', title: 'Domain', long: true },
  { key: 'name', title: 'Sign-in name', wide: true },
  { key: 'customer', title: 'Customer', text: (a) => a.customer, wide: true, long: true },
  { key: 'plan', title: 'Plan', text: (a) => a.plan, wide: true },
  { key: 'server', title: 'Server', text: (a) => a.server, wide: true },
  { key: 'disk', title: 'Disk', wide: true },
  { key: 'state', title: 'State' },
]

/** A closed account has lost its name to whoever takes it next: its number stays. */
const addressOf = (a: Account) => `/accounts/${a.state === 'closed' ? a.id : a.sign_in_name}`

function turn() {
  void router.push({ query: { ...router.currentRoute.value.query, cursor: data.value?.next } })
}
function reset() {
  typed.value = ''
  void router.replace({ query: {} })
}
</script>

<template>
  <PageHead title="Accounts">
    <ElButton type="primary" @click="router.push('/accounts/open')">Open an account</ElButton>
  </PageHead>
  <div class="filters">
    <ElInput v-model="typed" class="search" type="search" clearable placeholder="Part of a domain, sign-in name or customer" aria-label="Search accounts" />
    <ElSelect v-model="state" clearable placeholder="Any state" aria-label="State">
      <ElOption v-for="s in ['active', 'opening', 'closing', 'closed']" :key="s" :value="s" />
    </ElSelect>
    <ElSelect v-model="server" clearable placeholder="Any server" aria-label="Server">
      <ElOption v-for="s in servers?.servers" :key="s.label" :value="s.label" />
    </ElSelect>
    <ElSelect v-model="plan" clearable placeholder="Any plan" aria-label="Plan">
      <ElOption v-for="p in plans?.plans" :key="p.name" :value="p.name" />
    </ElSelect>
  </div>
  <ProblemNote :refusal="refusal" />
  <DataTable :columns="columns" :rows="data?.accounts ?? undefined" :id="(a) => a.id" :to="addressOf" caption="Accounts in the order of their domains">
    <template #domain="{ row }"><RouterLink :to="addressOf(row)" class="domain">{{ row.name }}</RouterLink></template>
    <template #name="{ row }"><code>{{ row.sign_in_name }}</code></template>
    <template #disk="{ row }"><FillBar :used="row.disk_used" :of="row.disk_limit" unit="bytes" what="Disk space" /></template>
    <template #state="{ row }"><StateMark :state="row.state" /><StateMark v-if="row.drifts > 0" class="drift" state="drift" /></template>
    <template #empty>
      <div class="empty">
        <template v-if="filtered">
          <h2>No account fits</h2>
          <p>Closed accounts are listed only with the state “closed”. <ElButton size="small" @click="reset">Take the filters away</ElButton></p>
        </template>
        <template v-else>
          <h2>There are no accounts yet</h2>
          <p><RouterLink to="/accounts/open">Open the first one</RouterLink>: it takes a domain, a plan and a customer.</p>
        </template>
      </div>
    </template>
  </DataTable>
  <PageTurner v-if="data?.accounts?.length" :shown="data.accounts.length" :what="data.accounts.length === 1 ? 'account' : 'accounts'" :next="data.next" :first="!cursor" @next="turn" @first="cursor = ''" />
</template>

<style scoped>
.filters {
  display: grid;
  grid-template-columns: minmax(12rem, 24rem) repeat(3, minmax(7rem, 10rem));
  gap: 0.5rem;
  margin-bottom: 0.7rem;
}
.domain {
  font-weight: 600;
  color: inherit;
  text-decoration: none;
}
.domain:hover {
  text-decoration: underline;
}
.drift {
  margin-left: 0.7rem;
}
@media (max-width: 760px) {
  .filters {
    grid-template-columns: repeat(3, 1fr);
  }
  .search {
    grid-column: 1 / -1;
  }
}
</style>
