<script setup lang="ts">
import { computed, ref, watchEffect } from 'vue'
import { useRouter } from 'vue-router'
import { ElButton } from 'element-plus'
import { api, ask, made, type Schemas } from '../../api/client'
import { useAct } from '../../composables/useAct'
import { useLoad } from '../../composables/useLoad'
import { useOperation } from '../../composables/useOperation'
import { ago, amount, moment } from '../../words'
import ChangeList from '../../parts/ChangeList.vue'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import FactList from '../../parts/FactList.vue'
import FactStrip from '../../parts/FactStrip.vue'
import FillBar from '../../parts/FillBar.vue'
import NotHere from '../../parts/NotHere.vue'
import PageHead from '../../parts/PageHead.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import StateMark from '../../parts/StateMark.vue'
import StripFact from '../../parts/StripFact.vue'
import WarningList from '../../parts/WarningList.vue'
import StepList from '../../parts/StepList.vue'
import OperationTable from '../operations/OperationTable.vue'
import CloseAccount from './CloseAccount.vue'
import ChangeTerms from './ChangeTerms.vue'
import SetException from './SetException.vue'
import SuspendAccount from './SuspendAccount.vue'
import AddDomain from './AddDomain.vue'
import LoginList from './LoginList.vue'
import { inWords } from '../domains/serving'
import { isOperator, may } from '../session/state'
import { confirmed } from '../../parts/confirm'

const props = defineProps<{ account: string }>()
const router = useRouter()

const path = computed(() => ({ account: props.account }))
const { data, refusal, reload } = useLoad(
  () => ask(api.GET('/api/v1/accounts/{account}', { params: { path: path.value } })),
  { on: path, every: 10_000 },
)
const { data: operations, reload: reloadOperations } = useLoad(
  () => ask(api.GET('/api/v1/operations', { params: { query: { account: props.account, limit: 10 } } })),
  { on: path },
)

const started = ref<number>()
const { operation } = useOperation(started, () => {
  void reload()
  void reloadOperations()
})
const { refusal: acting, act } = useAct()
const repair = () =>
  act(async () => {
    started.value = (
      await made(api.POST('/api/v1/accounts/{account}/repair', { params: { path: path.value } }))
    ).operation
  })

const resume = () =>
  act(async () => {
    started.value = (
      await made(api.POST('/api/v1/accounts/{account}/resume', { params: { path: path.value } }))
    ).operation
  })
const freeze = (frozen: boolean) =>
  act(async () => {
    const changed = await made(
      api.PUT('/api/v1/accounts/{account}/frozen-terms', { params: { path: path.value }, body: { frozen } }),
    )
    after(changed.operation)
  })
const dropException = (e: Schemas['Exception']) =>
  act(async () => {
    const where = {
      ...path.value,
      what: e.limit ? ('limits' as const) : ('features' as const),
      key: e.limit ?? e.feature ?? '',
    }
    if (!(await confirmed(`Remove the exception, so that the plan's value for ${where.key} applies again?`, 'Remove')))
      return
    const changed = await made(
      api.DELETE('/api/v1/accounts/{account}/exceptions/{what}/{key}', { params: { path: where } }),
    )
    after(changed.operation)
  })
function after(operation: number | undefined) {
  if (operation) started.value = operation
  void reload()
  void reloadOperations()
}

const closing = ref(false)
const shifting = ref(false)
const excepting = ref(false)
const suspending = ref(false)
const addingDomain = ref(false)
const open = computed(() => data.value !== undefined && ['active', 'suspended', 'opening'].includes(data.value.state))
watchEffect(() => {
  if (data.value) document.title = `${data.value.name} · Victualler`
})

type Allowed = Schemas['Allowed']
const columns: Column<Allowed>[] = [
  { key: 'what', title: 'Limit', text: (l) => l.title, long: true },
  { key: 'value', title: 'Allowed', right: true, text: (l) => amount(l.value, l.unit) },
  { key: 'used', title: 'Used', right: true, text: (l) => (l.used === null ? '–' : amount(l.used, l.unit)) },
  { key: 'left', title: 'Left', right: true, wide: true, text: (l) => (l.used === null ? '' : amount(l.left, l.unit)) },
  { key: 'source', title: 'From', wide: true },
]
const exceptionColumns: Column<Schemas['Exception']>[] = [
  { key: 'what', title: 'What', text: (e) => e.limit ?? `feature ${e.feature}` },
  { key: 'value', title: 'Set to', right: true },
  { key: 'until', title: 'Until', text: (e) => (e.ends_at ? moment(e.ends_at).slice(0, 10) : 'for good') },
  { key: 'reason', title: 'Reason', long: true },
  { key: 'drop', title: '', right: true },
]
const unitOf = (key?: string) => data.value?.allowance.find((l) => l.key === key)?.unit ?? 'count'
const facts = computed<[string, string][]>(() => {
  const a = data.value
  if (!a) return []
  return [
    ...(isOperator.value ? ([['Why there', a.placement]] as [string, string][]) : []),
    ['Home', a.home],
    ['Opened', moment(a.opened_at)],
    ...(a.closed_at ? ([['Closed', moment(a.closed_at)]] as [string, string][]) : []),
    [
      'Features',
      a.features
        .filter((f) => f.on)
        .map((f) => f.feature)
        .join(', ') || 'none',
    ],
  ]
})
</script>

<template>
  <NotHere v-if="!data && refusal" :refusal="refusal" to="/accounts" label="All accounts" />
  <template v-if="data">
    <PageHead :title="data.name" :about="data.name === data.domain ? undefined : data.domain">
      <template #above><RouterLink to="/accounts">Accounts</RouterLink></template>
      <ElButton v-if="open" @click="router.push(`/accounts/${account}/handover`)">Handover sheet</ElButton>
      <ElButton v-if="open && may('accounts.change')" @click="shifting = true">Another plan…</ElButton>
      <ElButton v-if="data.state !== 'closed' && may('accounts.repair')" @click="repair">Repair</ElButton>
      <template v-if="may('accounts.suspend')">
        <ElButton v-if="data.state === 'suspended'" @click="resume">Resume</ElButton>
        <ElButton v-else-if="data.state === 'active'" @click="suspending = true">Suspend…</ElButton>
      </template>
      <ElButton v-if="open && may('accounts.close')" @click="closing = true">Close the account…</ElButton>
    </PageHead>
    <p v-if="data.suspension" class="warn">
      ‖ Suspended since {{ moment(data.suspension.since) }} by {{ data.suspension.by }}: {{ data.suspension.why }}.
      Visitors see a notice; everything is kept.
    </p>
    <p v-if="data.frozen_terms" class="frozen">
      Its limits are those of plan {{ data.frozen_terms.plan }}, frozen on
      {{ moment(data.frozen_terms.since).slice(0, 10) }}: changes of its plan do not apply.
      <button v-if="may('accounts.change')" type="button" class="link" @click="freeze(false)">
        Follow the plan again
      </button>
    </p>
    <WarningList :warnings="data.warnings" :account="account" />
    <FactStrip>
      <StripFact name="State"
        ><StateMark :state="data.state" /><StateMark v-if="data.drifts" state="drift"
      /></StripFact>
      <StripFact name="Sign-in name"
        ><code>{{ data.sign_in_name }}</code></StripFact
      >
      <StripFact v-if="may('customers.change')" name="Customer"
        ><RouterLink :to="`/customers/${data.customer_id}`">{{ data.customer }}</RouterLink></StripFact
      >
      <StripFact name="Plan"
        ><span
          ><RouterLink v-if="may('plans.read')" :to="`/plans/${data.plan}`">{{ data.plan }}</RouterLink
          ><template v-else>{{ data.plan }}</template></span
        ></StripFact
      >
      <StripFact name="Server"
        ><span
          ><RouterLink v-if="may('servers.read')" :to="`/servers/${data.server}`">{{ data.server }}</RouterLink
          ><template v-else>{{ data.server }}</template> {{ data.address }}</span
        ></StripFact
      >
      <StripFact name="Disk"
        ><FillBar :used="data.disk_used" :of="data.disk_limit" unit="bytes" what="Disk space"
      /></StripFact>
    </FactStrip>
    <ProblemNote :refusal="acting" />
    <section v-if="operation" aria-label="Steps">
      <h2>{{ operation.kind }}</h2>
      <StepList :operation="operation" />
    </section>
    <section v-if="data.drift?.length">
      <h2>
        Drift <span class="quiet">found {{ ago(data.drift[0]?.found_at) }}: the server is not as it should be</span>
      </h2>
      <ChangeList :changes="data.drift.map((d) => ({ ...d, account: undefined }))" open />
    </section>
    <div class="halves">
      <div>
        <section v-if="data.domains?.length">
          <div class="titled">
            <h2>Domains</h2>
            <ElButton v-if="open && may('domains.change')" size="small" @click="addingDomain = true"
              >Add a domain</ElButton
            >
          </div>
          <DataTable
            :id="(d) => d.name"
            :columns="[
              { key: 'unicode', title: 'Domain', long: true },
              { key: 'served_as', title: 'Served as', text: (d) => d.served_as },
              { key: 'root', title: 'Shows', wide: true, long: true },
            ]"
            :rows="data.domains"
            :to="(d) => `/accounts/${account}/domains/${d.name}`"
            caption="Domains of the account"
          >
            <template #unicode="{ row }"
              ><RouterLink :to="`/accounts/${account}/domains/${row.name}`"
                ><b>{{ row.unicode }}</b></RouterLink
              ><span v-if="row.main" class="quiet"> main</span
              ><span v-if="row.proof?.waiting" class="warn"> waiting for its proof</span></template
            >
            <template #root="{ row }"
              ><code v-if="row.root">{{ row.root }}</code
              ><template v-else>{{ inWords(row) }}</template></template
            >
          </DataTable>
        </section>
        <LoginList
          v-if="open"
          :account="account"
          :sign-in="data.sign_in_name"
          :may="may('logins.change')"
          @started="after"
        />
        <section>
          <h2>Details</h2>
          <FactList :facts="facts" />
        </section>
        <section v-if="operations?.operations?.length">
          <h2>Operations</h2>
          <OperationTable :operations="operations.operations" :without="['id', 'actor', 'subject']" />
        </section>
      </div>
      <div>
        <section>
          <div class="titled">
            <h2>Limits</h2>
            <span v-if="open" class="acts">
              <ElButton
                v-if="!data.frozen && may('accounts.change')"
                size="small"
                title="Keep these limits when the plan changes"
                @click="freeze(true)"
                >Freeze limits</ElButton
              >
              <ElButton v-if="may('exceptions.change')" size="small" @click="excepting = true">Set by hand</ElButton>
            </span>
          </div>
          <DataTable :id="(l) => l.key" :columns="columns" :rows="data.allowance" caption="Limits of the account">
            <template #source="{ row }"
              ><span :title="row.raised_by">{{ row.source }}</span></template
            >
          </DataTable>
        </section>
        <section v-if="data.excepted.length">
          <h2>Set by hand</h2>
          <DataTable
            :id="(e) => e.limit ?? e.feature ?? ''"
            :columns="exceptionColumns"
            :rows="data.excepted"
            caption="What is set by hand"
          >
            <template #value="{ row }">{{
              row.limit ? amount(row.amount, unitOf(row.limit)) : row.on ? 'on' : 'off'
            }}</template>
            <template #reason="{ row }"
              >{{ row.reason }} <span class="quiet">{{ row.author }}, {{ ago(row.set_at) }}</span></template
            >
            <template #drop="{ row }"
              ><button v-if="may('exceptions.change')" type="button" class="link" @click="dropException(row)">
                Remove
              </button></template
            >
          </DataTable>
        </section>
      </div>
    </div>
    <ChangeTerms v-model="shifting" :accounts="[data]" @done="after" />
    <SetException v-model="excepting" :account="data" @done="after" />
    <SuspendAccount v-model="suspending" :account="data" @started="after" />
    <AddDomain v-model="addingDomain" :account="data" @started="after" />
    <CloseAccount v-model="closing" :account="data" @started="started = $event" />
  </template>
</template>

<style scoped>
.frozen {
  margin: 0 0 0.8rem;
}
</style>
