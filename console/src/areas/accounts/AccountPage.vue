<script setup lang="ts">
import { computed, ref, watchEffect } from 'vue'
import { ElButton } from 'element-plus'
import { api, ask, type Schemas } from '../../api/client'
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
import StepList from '../../parts/StepList.vue'
import OperationTable from '../operations/OperationTable.vue'
import CloseAccount from './CloseAccount.vue'

const props = defineProps<{ account: string }>()

const path = computed(() => ({ account: props.account }))
const { data, refusal, reload } = useLoad(() => ask(api.GET('/api/v1/accounts/{account}', { params: { path: path.value } })), { on: path, every: 10_000 })
const { data: operations, reload: reloadOperations } = useLoad(
  () => ask(api.GET('/api/v1/operations', { params: { query: { account: props.account, limit: 10 } } })), { on: path })

const started = ref<number>()
const { operation } = useOperation(started, () => {
  void reload()
  void reloadOperations()
})
const { refusal: acting, act } = useAct()
const repair = () =>
  act(async () => {
    started.value = ((await ask(api.POST('/api/v1/accounts/{account}/repair', { params: { path: path.value } }))) as Schemas['Started']).operation
  })

const closing = ref(false)
watchEffect(() => {
  if (data.value) document.title = `${data.value.name} · Victualler`
})

type Allowed = Schemas['Allowed']
const columns: Column<Allowed>[] = [
  { key: 'what', title: 'Limit', text: (l) => l.what, long: true },
  { key: 'value', title: 'Allowed', right: true, text: (l) => amount(l.value, l.unit) },
  { key: 'used', title: 'Used', right: true, text: (l) => (l.used === null ? '–' : amount(l.used, l.unit)) },
  { key: 'left', title: 'Left', right: true, wide: true, text: (l) => (l.used === null || l.value === null ? '' : amount(Math.max(0, l.value - l.used), l.unit)) },
  { key: 'source', title: 'From', wide: true, text: (l) => l.source },
]
const facts = computed<[string, string][]>(() => {
  const a = data.value
  if (!a) return []
  return [
    ['Customer', a.customer],
    ['Plan', a.plan],
    ['Why there', a.placement],
    ['Home', a.home],
    ['Opened', moment(a.opened_at)],
    ...(a.closed_at ? ([['Closed', moment(a.closed_at)]] as [string, string][]) : []),
    ['Features', a.features?.join(', ') || 'none'],
  ]
})
</script>

<template>
  <NotHere v-if="!data && refusal" :refusal="refusal" to="/accounts" label="All accounts" />
  <template v-if="data">
    <PageHead :title="data.name" :about="data.name === data.domain ? undefined : data.domain">
      <template #above><RouterLink to="/accounts">Accounts</RouterLink></template>
      <ElButton v-if="data.state !== 'closed'" @click="repair">Repair</ElButton>
      <ElButton v-if="data.state === 'active'" @click="closing = true">Close the account…</ElButton>
    </PageHead>
    <FactStrip>
      <StripFact name="State"><StateMark :state="data.state" /><StateMark v-if="data.drifts" state="drift" /></StripFact>
      <StripFact name="Sign-in name"><code>{{ data.sign_in_name }}</code></StripFact>
      <StripFact name="Server"><span><RouterLink :to="`/servers/${data.server}`">{{ data.server }}</RouterLink> {{ data.address }}</span></StripFact>
      <StripFact name="Disk"><FillBar :used="data.disk_used" :of="data.disk_limit" unit="bytes" what="Disk space" /></StripFact>
    </FactStrip>
    <ProblemNote :refusal="acting" />
    <section v-if="operation" aria-label="Steps">
      <h2>{{ operation.kind }}</h2>
      <StepList :operation="operation" />
    </section>
    <section v-if="data.drift?.length">
      <h2>Drift <span class="quiet">found {{ ago(data.drift[0]?.found_at) }}: the server is not as it should be</span></h2>
      <ChangeList :changes="data.drift.map((d) => ({ ...d, account: undefined }))" open />
    </section>
    <div class="halves">
      <div>
        <section v-if="data.domains?.length">
          <h2>Domains</h2>
          <DataTable
            :columns="[{ key: 'unicode', title: 'Domain', long: true }, { key: 'served_as', title: 'Served as', text: (d) => d.served_as }, { key: 'root', title: 'Document root', wide: true }]"
            :rows="data.domains"
            :id="(d) => d.name"
            caption="Domains of the account"
          >
            <template #unicode="{ row }"><b>{{ row.unicode }}</b><span v-if="row.main" class="quiet"> main</span></template>
            <template #root="{ row }"><code>{{ row.root }}</code></template>
          </DataTable>
        </section>
        <section>
          <h2>About it</h2>
          <FactList :facts="facts" />
        </section>
        <section v-if="operations?.operations?.length">
          <h2>Operations</h2>
          <OperationTable :operations="operations.operations" :without="['id', 'actor', 'subject']" />
        </section>
      </div>
      <section>
        <h2>Limits</h2>
        <DataTable :columns="columns" :rows="data.allowance ?? []" :id="(l) => l.key" caption="Limits of the account" />
      </section>
    </div>
    <CloseAccount v-model="closing" :account="data" @started="started = $event" />
  </template>
</template>
