<script setup lang="ts">
import { computed, ref, shallowRef } from 'vue'
import { ElButton, ElInput, ElOption, ElSelect } from 'element-plus'
import { useRouter } from 'vue-router'
import { api, ask, type Schemas } from '../../api/client'
import { useFilters } from '../../composables/useFilters'
import { useLoad } from '../../composables/useLoad'
import { useOperation } from '../../composables/useOperation'
import { useResellers } from '../../composables/useResellers'
import { useTyped } from '../../composables/useTyped'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import DomainName from '../../parts/DomainName.vue'
import FillBar from '../../parts/FillBar.vue'
import PageHead from '../../parts/PageHead.vue'
import PageTurner from '../../parts/PageTurner.vue'
import PlanPick from '../../parts/PlanPick.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import ResellerPick from '../../parts/ResellerPick.vue'
import StateMark from '../../parts/StateMark.vue'
import StepList from '../../parts/StepList.vue'
import { isCustomer, may } from '../session/state'
import ActOnAccounts from './ActOnAccounts.vue'
import ChangeTerms from './ChangeTerms.vue'
import { actions, type ActionName } from './many'
import { t } from '../../language'
import { named } from '../../codes'

type Account = Schemas['Account']

const router = useRouter()
const { search, state, server, plan, customer, reseller, cursor, filtered, clearFilters } = useFilters(
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
  live: true,
})
const { data: servers } = useLoad(async () => (may('servers.read') ? ask(api.GET('/api/v1/servers')) : undefined))
const hasResellers = useResellers()
const selected = shallowRef(new Map<string | number, Account>())
const accounts = computed(() => [...selected.value.values()])
/** Who can do nothing with several accounts does not select any. */
const selection = computed({
  get: () => (may('accounts.change') || may('accounts.suspend') ? selected.value : undefined),
  set: (now) => (selected.value = now ?? new Map()),
})
const changingPlan = ref(false)
const action = ref<ActionName>('suspend')
const acting = ref(false)
const offered = computed(() =>
  (
    [
      ['suspend', 'accounts.suspend'],
      ['resume', 'accounts.suspend'],
      ['repair', 'accounts.repair'],
      ['close', 'accounts.close'],
    ] as const
  )
    .filter(([name, permission]) => may(permission) && accounts.value.some(actions[name].fits))
    .map(([name]) => name),
)
const started = ref<number>()
const { operation } = useOperation(started, () => void reload())
function begin(name: ActionName) {
  action.value = name
  acting.value = true
}
function clear() {
  selected.value = new Map()
  void reload()
}
function planChanged(number: number | undefined) {
  started.value = number
  clear()
}

const columns = computed<Column<Account>[]>(() => [
  { key: 'domain', title: t('Domain'), long: true, fixed: true },
  { key: 'name', title: t('Sign-in name'), wide: true },
  ...(isCustomer.value ? [] : [{ key: 'customer', title: t('Customer'), wide: true, long: true }]),
  { key: 'plan', title: t('Plan'), wide: true },
  { key: 'server', title: t('Server'), text: (a: Account) => a.server, wide: true },
  { key: 'disk', title: t('Disk'), wide: true },
  { key: 'state', title: t('State') },
])

/** A closed account has lost its name to whoever takes it next: its number stays. */
const addressOf = (a: Account) => `/accounts/${a.state === 'closed' ? a.id : a.sign_in_name}`

function reset() {
  typed.value = ''
  clearFilters()
}
</script>

<template>
  <PageHead :title="$t('Accounts')">
    <ElButton v-if="may('accounts.open')" type="primary" @click="router.push('/accounts/open')">{{
      $t('Open an account')
    }}</ElButton>
  </PageHead>
  <div class="filters">
    <ElInput
      v-model="typed"
      type="search"
      clearable
      :placeholder="$t('Part of a domain, sign-in name or customer')"
      :aria-label="$t('Search accounts')"
    />
    <ElSelect v-model="state" clearable :placeholder="$t('Any state')" :aria-label="$t('State')">
      <ElOption
        v-for="s in ['active', 'suspended', 'opening', 'closing', 'closed']"
        :key="s"
        :value="s"
        :label="named(s)"
      />
    </ElSelect>
    <ElSelect v-if="servers" v-model="server" clearable :placeholder="$t('Any server')" :aria-label="$t('Server')">
      <ElOption v-for="s in servers?.servers" :key="s.label" :value="s.label" />
    </ElSelect>
    <PlanPick v-if="may('plans.read')" v-model="plan" clearable :placeholder="$t('Any plan')" :label="$t('Plan')" />
    <ResellerPick v-if="hasResellers" v-model="reseller" :placeholder="$t('Any reseller')" :label="$t('Reseller')" />
  </div>
  <p v-if="customer" class="quiet">
    {{ $t('Only accounts of one customer.') }}
    <button type="button" class="link" @click="customer = ''">{{ $t("Everybody's") }}</button>
  </p>
  <ProblemNote :refusal="refusal" />
  <section v-if="operation" :aria-label="$t('Steps')"><StepList :operation="operation" /></section>
  <div v-if="accounts.length" class="selection" role="region" :aria-label="$t('Selection')">
    <b>{{ $t('{n} account selected | {n} accounts selected', { n: accounts.length }) }}</b>
    <ElButton v-if="may('accounts.change')" size="small" @click="changingPlan = true">{{
      $t('Another plan…')
    }}</ElButton>
    <ElButton v-for="name in offered" :key="name" size="small" @click="begin(name)"
      >{{ actions[name].title }}…</ElButton
    >
    <button type="button" class="link" @click="selected = new Map()">{{ $t('Clear selection') }}</button>
  </div>
  <DataTable
    :id="(a) => a.id"
    v-model:selected="selection"
    name="accounts"
    :selectable="(a) => a.state !== 'closed'"
    :label="(a) => a.name"
    :columns="columns"
    :rows="data?.accounts ?? undefined"
    :to="addressOf"
    :caption="$t('Accounts in the order of their domains')"
  >
    <template #domain="{ row }"
      ><RouterLink :to="addressOf(row)" class="name"><DomainName :name="row.name" /></RouterLink
    ></template>
    <template #customer="{ row }"
      >{{ row.customer }}{{ ' '
      }}<span v-if="row.reseller" class="quiet">{{ $t('of {reseller}', { reseller: row.reseller }) }}</span></template
    >
    <template #plan="{ row }"
      >{{ row.plan
      }}<span
        v-if="row.exceptions || row.frozen"
        class="quiet"
        :title="
          row.frozen ? $t('Its limits are frozen') : $t('{exceptions} set by hand', { exceptions: row.exceptions })
        "
      >
        {{ row.frozen ? '‡' : '†' }}</span
      ></template
    >
    <template #name="{ row }"
      ><code>{{ row.sign_in_name }}</code></template
    >
    <template #disk="{ row }"
      ><FillBar :used="row.disk_used" :of="row.disk_limit" unit="bytes" :what="$t('Disk space')"
    /></template>
    <template #state="{ row }"
      ><StateMark :state="row.state" /><span v-if="row.mail_state" class="quiet"> {{ $t('mail suspended') }}</span
      ><StateMark v-if="row.drifts > 0" class="drift" state="drift"
    /></template>
    <template #empty>
      <div class="empty">
        <template v-if="filtered">
          <h2>{{ $t('No account fits') }}</h2>
          <p>
            {{ $t('Closed accounts are listed only with the state “closed”.') }}
            <ElButton size="small" @click="reset">{{ $t('Clear filters') }}</ElButton>
          </p>
        </template>
        <template v-else>
          <h2>{{ $t('There are no accounts yet') }}</h2>
          <p v-if="may('accounts.open')">
            <RouterLink to="/accounts/open">{{ $t('Open the first one') }}</RouterLink>
            <span class="quiet">{{ $t('It takes a domain, a plan and a customer.') }}</span>
          </p>
        </template>
      </div>
    </template>
  </DataTable>
  <PageTurner
    v-if="data?.accounts?.length"
    :count="$t('{n} account | {n} accounts', { n: data.accounts.length })"
    :next="data.next"
  />
  <ChangeTerms v-model="changingPlan" :accounts="accounts" @done="planChanged" />
  <ActOnAccounts v-model="acting" :action="action" :accounts="accounts" @done="clear" />
</template>

<style scoped>
.selection {
  position: sticky;
  top: 46px;
  z-index: 5;
  display: flex;
  flex-wrap: wrap;
  gap: 0.4rem 0.6rem;
  align-items: center;
  padding: 0.4rem 0.7rem;
  background: var(--signal-wash);
  border: 1px solid var(--line);
  border-bottom: 0;
}
.selection .el-button + .el-button {
  margin-inline-start: 0;
}
.drift {
  margin-inline-start: 0.7rem;
}
</style>
