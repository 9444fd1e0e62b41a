<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { ElButton } from 'element-plus'
import { api, ask, made } from '../../api/client'
import { useAct } from '../../composables/useAct'
import { useLoad } from '../../composables/useLoad'
import { ago, dayOf, moment } from '../../words'
import { confirmed } from '../../parts/confirm'
import ChangeList from '../../parts/ChangeList.vue'
import FactList from '../../parts/FactList.vue'
import FactStrip from '../../parts/FactStrip.vue'
import FillBar from '../../parts/FillBar.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import StateMark from '../../parts/StateMark.vue'
import StripFact from '../../parts/StripFact.vue'
import WarningList from '../../parts/WarningList.vue'
import OperationTable from '../operations/OperationTable.vue'
import { isOperator, may } from '../session/state'
import ChangeTerms from './ChangeTerms.vue'
import CloseAccount from './CloseAccount.vue'
import DomainTable from './DomainTable.vue'
import GiveAccount from './GiveAccount.vue'
import SuspendAccount from './SuspendAccount.vue'
import { fullest } from './usage'
import { useAccount } from './useAccount'
import { t } from '../../language'

/** Whether everything is well with an account and, if not, what to do. */
const { name, data, open, changed, after } = useAccount()
const route = useRoute()
const router = useRouter()
const path = computed(() => ({ account: name.value }))
const { data: operations } = useLoad(
  () => ask(api.GET('/api/v1/operations', { params: { query: { account: name.value, limit: 5 } } })),
  { on: () => `${name.value} ${changed.value}`, live: true },
)

const { refusal: acting, act } = useAct()
const repair = () =>
  act(async () => {
    after((await made(api.POST('/api/v1/accounts/{account}/repair', { params: { path: path.value } }))).operation)
  })
const resume = () =>
  act(async () => {
    after((await made(api.POST('/api/v1/accounts/{account}/resume', { params: { path: path.value } }))).operation)
  })
// Whoever comes here from the search has not seen the account yet.
async function confirmedResume() {
  if (
    data.value?.state === 'suspended' &&
    (await confirmed(t('Resume {name}?', { name: data.value.name }), t('Resume')))
  )
    await resume()
}
async function confirmedRepair() {
  if (await confirmed(t('Make {name} on its server as it should be?', { name: data.value?.name }), t('Repair')))
    await repair()
}

const closing = ref(false)
const changingPlan = ref(false)
const giving = ref(false)
const suspending = ref(false)
// The search leads here with what is to be done. Nothing is done before somebody says so here.
const begin: Record<string, () => void> = {
  suspend: () => (suspending.value = data.value?.state === 'active'),
  resume: () => void confirmedResume(),
  repair: () => void confirmedRepair(),
  close: () => (closing.value = open.value),
  plan: () => (changingPlan.value = open.value),
}
watch(
  () => route.query.do,
  (what) => {
    if (typeof what !== 'string') return
    begin[what]?.()
    void router.replace({ query: { ...route.query, do: undefined } })
  },
  { immediate: true },
)

const sites = computed(() => data.value?.domains.filter((d) => d.served_as !== 'dns-only') ?? [])
const full = computed(() => fullest(data.value?.allowance ?? [], 6))
const facts = computed<[string, string][]>(() => {
  const a = data.value
  if (!a) return []
  return [
    ...(isOperator.value ? ([[t('Why there'), a.placement]] as [string, string][]) : []),
    [t('Home'), a.home],
    [t('Opened'), moment(a.opened_at)],
    ...(a.closed_at ? ([[t('Closed'), moment(a.closed_at)]] as [string, string][]) : []),
  ]
})
</script>

<template>
  <template v-if="data">
    <div class="acts">
      <ElButton v-if="open" @click="router.push(`/accounts/${name}/handover`)">{{ $t('Handover sheet') }}</ElButton>
      <template v-if="open && may('accounts.change')">
        <ElButton @click="changingPlan = true">{{ $t('Another plan…') }}</ElButton>
        <ElButton @click="giving = true">{{ $t('Another customer…') }}</ElButton>
      </template>
      <ElButton v-if="data.state !== 'closed' && may('accounts.repair')" @click="repair">{{ $t('Repair') }}</ElButton>
      <template v-if="may('accounts.suspend')">
        <ElButton v-if="data.state === 'suspended'" @click="resume">{{ $t('Resume') }}</ElButton>
        <ElButton v-else-if="data.state === 'active'" @click="suspending = true">{{ $t('Suspend…') }}</ElButton>
      </template>
      <ElButton v-if="open && may('accounts.close')" @click="closing = true">{{ $t('Close the account…') }}</ElButton>
    </div>
    <p v-if="data.suspension" class="warn">
      {{
        $t('‖ Suspended since {since} by {by}: {why}. Visitors see a notice; everything is kept.', {
          since: moment(data.suspension.since),
          by: data.suspension.by,
          why: data.suspension.why,
        })
      }}
    </p>
    <p v-if="data.frozen_terms" class="frozen">
      {{
        $t('Its limits are those of plan {plan}, frozen on {since}: changes of its plan do not apply.', {
          plan: data.frozen_terms.plan,
          since: dayOf(data.frozen_terms.since),
        })
      }}
      <RouterLink :to="`/accounts/${name}/usage`">{{ $t('Usage and limits') }}</RouterLink>
    </p>
    <WarningList :warnings="data.warnings" :account="name" />
    <ProblemNote :refusal="acting" />
    <FactStrip>
      <StripFact :name="$t('State')"
        ><span><StateMark :state="data.state" />{{ ' ' }}<StateMark v-if="data.drifts" state="drift" /></span
      ></StripFact>
      <StripFact :name="$t('Sign-in name')"
        ><code>{{ data.sign_in_name }}</code></StripFact
      >
      <StripFact v-if="may('customers.change')" :name="$t('Customer')"
        ><RouterLink :to="`/customers/${data.customer_id}`">{{ data.customer }}</RouterLink></StripFact
      >
      <StripFact :name="$t('Plan')"
        ><span
          ><RouterLink v-if="may('plans.read')" :to="`/plans/${data.plan}`">{{ data.plan }}</RouterLink
          ><template v-else>{{ data.plan }}</template></span
        ></StripFact
      >
      <StripFact :name="$t('Server')"
        ><span
          ><RouterLink v-if="may('servers.read')" :to="`/servers/${data.server}`">{{ data.server }}</RouterLink
          ><template v-else>{{ data.server }}</template> {{ data.address }}</span
        ></StripFact
      >
    </FactStrip>
    <section v-if="data.drift?.length">
      <h2>
        {{ $t('Drift') }}
        <span class="quiet">{{
          $t('found {found}: the server is not as it should be', { found: ago(data.drift[0]?.found_at) })
        }}</span>
      </h2>
      <ChangeList :changes="data.drift.map((d) => ({ ...d, account: undefined }))" open />
    </section>
    <div class="halves">
      <div>
        <section v-if="sites.length">
          <div class="titled">
            <h2>{{ $t('Websites') }}</h2>
            <RouterLink :to="`/accounts/${name}/websites`">{{ $t('All websites') }}</RouterLink>
          </div>
          <DomainTable :account="name" :domains="sites.slice(0, 5)" :columns="['served_as', 'root']" />
          <p v-if="sites.length > 5" class="quiet">{{ $t('and {sites} more', { sites: sites.length - 5 }) }}</p>
        </section>
        <section v-if="operations?.operations?.length">
          <div class="titled">
            <h2>{{ $t('Recent operations') }}</h2>
            <RouterLink :to="`/accounts/${name}/history`">{{ $t('History') }}</RouterLink>
          </div>
          <OperationTable :operations="operations.operations" :without="['id', 'actor', 'subject']" />
        </section>
      </div>
      <div>
        <section>
          <div class="titled">
            <h2>{{ $t('Usage') }}</h2>
            <RouterLink :to="`/accounts/${name}/usage`">{{ $t('All limits') }}</RouterLink>
          </div>
          <p v-if="!full.length" class="quiet">{{ $t('Nothing is used yet.') }}</p>
          <dl v-else class="usage">
            <template v-for="l in full" :key="l.key">
              <dt>{{ l.title }}</dt>
              <dd><FillBar :used="l.used" :of="l.value" :unit="l.unit" :what="l.title" /></dd>
            </template>
          </dl>
        </section>
        <section>
          <h2>{{ $t('Details') }}</h2>
          <FactList :facts="facts" />
        </section>
      </div>
    </div>
    <ChangeTerms v-model="changingPlan" :accounts="[data]" @done="after" />
    <GiveAccount v-model="giving" :account="data" @done="after()" />
    <SuspendAccount v-model="suspending" :account="data" @started="after" />
    <CloseAccount v-model="closing" :account="data" @started="after" />
  </template>
</template>

<style scoped>
.acts {
  margin-bottom: 1rem;
}
.frozen {
  margin: 0 0 0.8rem;
}
.usage {
  display: grid;
  grid-template-columns: minmax(0, 1fr) minmax(9rem, 14rem);
  gap: 0.45rem 1rem;
  margin: 0;
  padding: 0.7rem 0.8rem;
  background: var(--sheet);
  border: 1px solid var(--line);
}
dd {
  margin: 0;
}
dd > * {
  width: 100%;
}
</style>
