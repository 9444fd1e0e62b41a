<script setup lang="ts">
import { computed, reactive, ref } from 'vue'
import { ElButton, ElCheckbox, ElInput, ElOption, ElSelect } from 'element-plus'
import { useRouter } from 'vue-router'
import { api, ask, type Schemas } from '../../api/client'
import { useFilters } from '../../composables/useFilters'
import { useLoad } from '../../composables/useLoad'
import { useOperation } from '../../composables/useOperation'
import { useResellers } from '../../composables/useResellers'
import { useTyped } from '../../composables/useTyped'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import FillBar from '../../parts/FillBar.vue'
import PageHead from '../../parts/PageHead.vue'
import PageTurner from '../../parts/PageTurner.vue'
import PlanPick from '../../parts/PlanPick.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import ResellerPick from '../../parts/ResellerPick.vue'
import StateMark from '../../parts/StateMark.vue'
import StepList from '../../parts/StepList.vue'
import { isCustomer, may } from '../session/state'
import ChangeTerms from './ChangeTerms.vue'

type Account = Schemas['Account']

const router = useRouter()
const { search, state, server, plan, customer, reseller, cursor } = useFilters(
  'search',
  'state',
  'server',
  'plan',
  'customer',
  'reseller',
  'cursor',
)

const typed = useTyped(search)

const query = computed(() => ({
  search: search.value || undefined,
  state: (state.value || undefined) as Account['state'] | undefined,
  server: server.value || undefined,
  plan: plan.value || undefined,
  customer: customer.value || undefined,
  reseller: reseller.value || undefined,
  cursor: cursor.value || undefined,
  limit: 50,
}))
const { data, refusal, reload } = useLoad(() => ask(api.GET('/api/v1/accounts', { params: { query: query.value } })), {
  on: query,
  every: 10_000,
})
const { data: servers } = useLoad(async () => (may('servers.read') ? ask(api.GET('/api/v1/servers')) : undefined))
const hasResellers = useResellers()
const filtered = computed(() =>
  Boolean(search.value || state.value || server.value || plan.value || customer.value || reseller.value),
)
const chosen = reactive(new Map<number, Account>())
const shifting = ref(false)
const started = ref<number>()
const { operation } = useOperation(started, () => void reload())
function choose(a: Account, on: boolean) {
  if (on) chosen.set(a.id, a)
  else chosen.delete(a.id)
}
function shifted(number: number | undefined) {
  started.value = number
  chosen.clear()
  void reload()
}

const columns = computed<Column<Account>[]>(() => [
  ...(may('accounts.change') ? [{ key: 'choose', title: '', wide: true }] : []),
  { key: 'domain', title: 'Domain', long: true },
  { key: 'name', title: 'Sign-in name', wide: true },
  ...(isCustomer.value ? [] : [{ key: 'customer', title: 'Customer', wide: true, long: true }]),
  { key: 'plan', title: 'Plan', wide: true },
  { key: 'server', title: 'Server', text: (a) => a.server, wide: true },
  { key: 'disk', title: 'Disk', wide: true },
  { key: 'state', title: 'State' },
])

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
    <ElButton v-if="chosen.size" @click="shifting = true">Another plan for {{ chosen.size }}…</ElButton>
    <ElButton v-if="may('accounts.open')" type="primary" @click="router.push('/accounts/open')"
      >Open an account</ElButton
    >
  </PageHead>
  <div class="filters">
    <ElInput
      v-model="typed"
      type="search"
      clearable
      placeholder="Part of a domain, sign-in name or customer"
      aria-label="Search accounts"
    />
    <ElSelect v-model="state" clearable placeholder="Any state" aria-label="State">
      <ElOption v-for="s in ['active', 'suspended', 'opening', 'closing', 'closed']" :key="s" :value="s" />
    </ElSelect>
    <ElSelect v-if="servers" v-model="server" clearable placeholder="Any server" aria-label="Server">
      <ElOption v-for="s in servers?.servers" :key="s.label" :value="s.label" />
    </ElSelect>
    <PlanPick v-if="may('plans.read')" v-model="plan" clearable placeholder="Any plan" label="Plan" />
    <ResellerPick v-if="hasResellers" v-model="reseller" placeholder="Any reseller" label="Reseller" />
  </div>
  <p v-if="customer" class="quiet">
    Only accounts of one customer. <button type="button" class="link" @click="customer = ''">Everybody's</button>
  </p>
  <ProblemNote :refusal="refusal" />
  <section v-if="operation" aria-label="Steps"><StepList :operation="operation" /></section>
  <DataTable
    :id="(a) => a.id"
    :columns="columns"
    :rows="data?.accounts ?? undefined"
    :to="addressOf"
    caption="Accounts in the order of their domains"
  >
    <template #domain="{ row }"
      ><RouterLink :to="addressOf(row)" class="domain">{{ row.name }}</RouterLink></template
    >
    <template #choose="{ row }"
      ><ElCheckbox
        v-if="row.state !== 'closed'"
        :model-value="chosen.has(row.id)"
        :aria-label="`Choose ${row.name}`"
        @change="(on) => choose(row, Boolean(on))"
    /></template>
    <template #customer="{ row }"
      >{{ row.customer }}<span v-if="row.reseller" class="quiet"> of {{ row.reseller }}</span></template
    >
    <template #plan="{ row }"
      >{{ row.plan
      }}<span
        v-if="row.exceptions || row.frozen"
        class="quiet"
        :title="row.frozen ? 'Its limits are frozen' : `${row.exceptions} set by hand`"
      >
        {{ row.frozen ? '‡' : '†' }}</span
      ></template
    >
    <template #name="{ row }"
      ><code>{{ row.sign_in_name }}</code></template
    >
    <template #disk="{ row }"
      ><FillBar :used="row.disk_used" :of="row.disk_limit" unit="bytes" what="Disk space"
    /></template>
    <template #state="{ row }"
      ><StateMark :state="row.state" /><StateMark v-if="row.drifts > 0" class="drift" state="drift"
    /></template>
    <template #empty>
      <div class="empty">
        <template v-if="filtered">
          <h2>No account fits</h2>
          <p>
            Closed accounts are listed only with the state “closed”.
            <ElButton size="small" @click="reset">Clear filters</ElButton>
          </p>
        </template>
        <template v-else>
          <h2>There are no accounts yet</h2>
          <p v-if="may('accounts.open')">
            <RouterLink to="/accounts/open">Open the first one</RouterLink>: it takes a domain, a plan and a customer.
          </p>
        </template>
      </div>
    </template>
  </DataTable>
  <PageTurner
    v-if="data?.accounts?.length"
    :shown="data.accounts.length"
    :what="data.accounts.length === 1 ? 'account' : 'accounts'"
    :next="data.next"
    :first="!cursor"
    @next="turn"
    @first="cursor = ''"
  />
  <ChangeTerms v-model="shifting" :accounts="[...chosen.values()]" @done="shifted" />
</template>

<style scoped>
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
</style>
