<script setup lang="ts">
import { computed, ref, shallowRef, watch, watchEffect } from 'vue'
import { ElButton } from 'element-plus'
import { api, ask, made, type Schemas } from '../../api/client'
import { useAct } from '../../composables/useAct'
import { useLoad } from '../../composables/useLoad'
import { useOperation } from '../../composables/useOperation'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import FactStrip from '../../parts/FactStrip.vue'
import NotHere from '../../parts/NotHere.vue'
import PageHead from '../../parts/PageHead.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import StateMark from '../../parts/StateMark.vue'
import StepList from '../../parts/StepList.vue'
import StripFact from '../../parts/StripFact.vue'
import { dayOf, minuteOf, until } from '../../words'
import { may, session } from '../session/state'
import ComingForm from './ComingForm.vue'
import InstallFile from './InstallFile.vue'
import NewRequest from './NewRequest.vue'
import RehearsalNote from './RehearsalNote.vue'
import RevokeNote from './RevokeNote.vue'
import TakeKey from './TakeKey.vue'
import { save } from './save'
import { confirmed } from '../../parts/confirm'
import { t } from '../../language'
import { named } from '../../codes'

const props = defineProps<{ account: string; domain: string }>()
const path = computed(() => ({ account: props.account, domain: props.domain }))
const params = computed(() => ({ path: path.value }))
const {
  data,
  refusal: missing,
  reload,
} = useLoad(() => ask(api.GET('/api/v1/accounts/{account}/domains/{domain}/certificate', { params: params.value })), {
  on: path,
  live: true,
  every: 15_000,
})
const started = ref<number>()
const { operation } = useOperation(started, () => void reload())
const { refusal, busy, act } = useAct()
watchEffect(() => {
  document.title = t('Certificate of {domain} · Victualler', { domain: props.domain })
})
// An order that began automatically is shown, too.
watch(data, (d) => {
  if (d?.operation && d.operation !== started.value && !(operation.value && !operation.value.finished_at))
    started.value = d.operation
})

const mayChange = computed(() => may('certificates.change'))
/** It ends, and nothing is going to replace it before. */
const soon = computed(() => {
  const d = data.value
  return d?.not_after && d.state !== 'valid' && new Date(d.not_after).getTime() - Date.now() < 14 * 86400000
})
const orderable = computed(() => mayChange.value && !data.value?.operation && data.value?.mode === 'automatic')
const byHand = computed(() => (data.value?.records.length ?? 0) > 0)
const leaveOut = computed(() => refusal.value?.problem.decide?.find((c) => c.field === 'leave_out'))

const rehearsal = shallowRef<Schemas['Rehearsal']>()
const rehearse = () =>
  act(
    async () =>
      (rehearsal.value = await ask(
        api.POST('/api/v1/accounts/{account}/domains/{domain}/certificate/rehearsal', {
          params: params.value,
          body: {},
        }),
      )),
    'rehearse',
  )
const order = (body: Schemas['CertificateOrder']) =>
  act(
    async () => {
      rehearsal.value = undefined
      started.value = (
        await made(
          api.POST('/api/v1/accounts/{account}/domains/{domain}/certificate/order', {
            params: { ...params.value },
            body,
          }),
        )
      ).operation
      await reload()
    },
    body.by_hand ? 'hand' : 'order',
  )
const takeBack = () =>
  act(async () => {
    if (!(await confirmed(t('Cancel the order?'), t('Cancel the order')))) return
    await made(api.DELETE('/api/v1/accounts/{account}/domains/{domain}/certificate/order', { params: params.value }))
    await reload()
  })
const download = () =>
  act(async () =>
    save(
      `${props.domain}.pem`,
      (await ask(api.GET('/api/v1/accounts/{account}/domains/{domain}/certificate/chain', { params: params.value })))
        .chain,
    ),
  )
const removeRequest = (r: Schemas['SigningRequest']) =>
  act(async () => {
    if (
      !(await confirmed(
        t('Delete this request and its key? A certificate issued for it can no longer be used.'),
        t('Delete'),
      ))
    )
      return
    await made(
      api.DELETE('/api/v1/accounts/{account}/domains/{domain}/certificate/requests/{request}', {
        params: { path: { ...path.value, request: r.id } },
      }),
    )
    await reload()
  })
function after(number?: number) {
  started.value = number || undefined
  rehearsal.value = undefined
  void reload()
}
const dialog = ref<'install' | 'request' | 'key' | 'revoke'>()
const serial = ref('')
const opened = (name: NonNullable<typeof dialog.value>) =>
  computed({ get: () => dialog.value === name, set: (on) => (dialog.value = on ? name : undefined) })
const [installing, requesting, taking, revoking] = [
  opened('install'),
  opened('request'),
  opened('key'),
  opened('revoke'),
]
function revoke(of: string) {
  serial.value = of
  dialog.value = 'revoke'
}

const recordColumns: Column<Schemas['ChallengeRecord']>[] = [
  { key: 'name', title: t('Name'), long: true },
  { key: 'type', title: t('Type'), text: (r) => r.type },
  { key: 'data', title: t('Data'), long: true },
  { key: 'shown', title: t('Seen'), long: true },
]
const requestColumns: Column<Schemas['SigningRequest']>[] = [
  { key: 'names', title: t('For'), long: true },
  { key: 'created_at', title: t('Waits since'), wide: true, text: (r) => dayOf(r.created_at) },
  { key: 'acts', title: '', right: true },
]
type Row = { serial: string; state: string; issuer: string; from: string; until: string; revocable: boolean }
const all = computed<Row[]>(() => {
  const d = data.value
  if (!d) return []
  const now = d.serial
    ? [
        {
          serial: d.serial,
          state: 'in use',
          issuer: d.issuer ?? '',
          from: d.not_before!,
          until: d.not_after!,
          revocable: d.state !== 'uploaded',
        },
      ]
    : []
  return [
    ...now,
    ...d.earlier.map((e) => ({
      serial: e.serial,
      state: e.state,
      issuer: e.issuer,
      from: e.not_before,
      until: e.not_after,
      revocable: Boolean(e.authority) && e.state === 'retired',
    })),
  ]
})
/** Of certificates that last days, the time of day counts, too. */
const edge = (c: Row, at: string) =>
  new Date(c.until).getTime() - new Date(c.from).getTime() < 8 * 86400000 ? minuteOf(at) : dayOf(at)
const columns: Column<Row>[] = [
  { key: 'from', title: t('From'), text: (c) => edge(c, c.from) },
  { key: 'until', title: t('Until'), wide: true, text: (c) => edge(c, c.until) },
  { key: 'state', title: t('State') },
  { key: 'issuer', title: t('Issuer and serial'), wide: true, long: true },
  { key: 'acts', title: '', right: true },
]
</script>

<template>
  <NotHere v-if="!data && missing" :refusal="missing" to="/certificates" :label="$t('All certificates')" />
  <template v-if="data">
    <PageHead :title="data.domain" :about="$t('Certificate')">
      <template #above
        ><RouterLink to="/certificates">{{ $t('Certificates') }}</RouterLink> ›
        <RouterLink :to="`/accounts/${account}`">{{ account }}</RouterLink> ›
        <RouterLink :to="`/accounts/${account}/domains/${domain}`">{{ $t('Site') }}</RouterLink></template
      >
      <template v-if="mayChange">
        <ElButton :loading="busy === 'rehearse'" @click="rehearse">{{ $t('Rehearse') }}</ElButton>
        <ElButton
          v-if="orderable"
          :type="data.state === 'valid' ? 'default' : 'primary'"
          :loading="busy === 'order'"
          @click="order({})"
          >{{ $t('Order now') }}</ElButton
        >
        <ElButton @click="dialog = 'install'">{{ $t('Install a certificate…') }}</ElButton>
        <ElButton @click="dialog = 'request'">{{ $t('Signing request…') }}</ElButton>
      </template>
    </PageHead>
    <FactStrip>
      <StripFact :name="$t('State')"><StateMark :state="data.state" /></StripFact>
      <StripFact :name="$t('Ends')"
        ><template v-if="data.not_after"
          >{{ minuteOf(data.not_after)
          }}<span :class="soon ? 'warn' : 'quiet'">{{ until(data.not_after) }}</span></template
        ><template v-else>{{ $t('never: self-signed by its server') }}</template></StripFact
      >
      <StripFact :name="$t('For')">{{
        data.covered.length ? data.covered.join(', ') : $t('no name that browsers trust')
      }}</StripFact>
      <StripFact v-if="data.issuer" :name="$t('Issued by')">{{ data.issuer }}</StripFact>
      <StripFact v-if="data.renew_at" :name="$t('Renewed automatically')">{{ minuteOf(data.renew_at) }}</StripFact>
      <StripFact v-else-if="data.next_try && !data.operation" :name="$t('Next try')">{{
        minuteOf(data.next_try)
      }}</StripFact>
    </FactStrip>
    <ProblemNote :refusal="refusal"
      ><ElButton v-if="leaveOut" size="small" @click="order({ leave_out: true })">{{
        $t('Order for the others; it is added when it passes')
      }}</ElButton></ProblemNote
    >
    <div v-if="data.failures && !data.operation" class="failing">
      <strong>✕ {{ $t('The last try failed | The last {n} tries failed', { n: data.failures }) }}</strong>
      <p>{{ data.problem }}</p>
      <p class="quiet">
        {{
          data.next_try
            ? $t('Since {since}; tried again {next}.', {
                since: minuteOf(data.failing_since!),
                next: minuteOf(data.next_try),
              })
            : $t('Since {since}.', { since: minuteOf(data.failing_since!) })
        }}
        <span v-if="mayChange" class="links"
          ><button v-if="!rehearsal" type="button" class="link" @click="rehearse">
            {{ $t('What is to be done?') }}
          </button>
          {{ ' ' }}
          <button v-if="orderable" type="button" class="link" @click="order({ by_hand: true })">
            {{ $t('Prove the names by hand') }}
          </button></span
        >
      </p>
    </div>
    <section v-if="operation" :aria-label="$t('Steps')">
      <div class="titled">
        <h2>{{ operation.title }}</h2>
        <ElButton v-if="mayChange && data.operation" size="small" @click="takeBack">{{
          $t('Cancel the order')
        }}</ElButton>
      </div>
      <StepList :operation="operation" />
    </section>
    <section v-if="byHand">
      <h2>
        {{ $t('Enter these records where the zone is') }}
        <span class="quiet">{{ $t('the order continues when all name servers show them') }}</span>
      </h2>
      <DataTable
        :id="(r) => r.data"
        :columns="recordColumns"
        :rows="data.records"
        :caption="$t('Records that prove the names')"
      >
        <template #name="{ row }"
          ><code>{{ row.name }}.</code></template
        >
        <template #data="{ row }"
          ><code>{{ row.data }}</code></template
        >
        <template #shown="{ row }"
          ><template v-if="row.visible">{{ $t('● by all') }}</template
          ><template v-else-if="row.checked_at">{{
            $t('◔ not by {missing}', { missing: row.missing.join(', ') })
          }}</template
          ><template v-else>{{ $t('◔ not looked for yet') }}</template></template
        >
      </DataTable>
    </section>
    <RehearsalNote v-if="rehearsal" :rehearsal="rehearsal" />
    <section v-if="data.left_out.length && !data.operation">
      <h2>
        {{ $t('Names it is not for') }} <span class="quiet">{{ $t('added when they pass') }}</span>
      </h2>
      <dl class="left">
        <template v-for="l in data.left_out" :key="l.name"
          ><dt>{{ l.name }}</dt>
          <dd>
            {{ l.reason }}<br /><span class="quiet">→ {{ l.do }}</span>
          </dd></template
        >
      </dl>
    </section>
    <div class="halves">
      <ComingForm :certificate="data" :account="account" :may="mayChange" @done="after()" />
      <div>
        <section v-if="data.aliases.length">
          <h2>{{ $t('Its DNS is hosted elsewhere') }}</h2>
          <p>
            {{
              $t(
                'Entered there once, this record proves the site’s names for good: | Entered there once, these records prove the site’s names for good:',
                { n: data.aliases.length },
              )
            }}
          </p>
          <p v-for="a in data.aliases" :key="a.name">
            <code class="whole">{{ a.name }}. CNAME {{ a.target }}.</code>
          </p>
          <p v-if="orderable">
            <button type="button" class="link" @click="order({ by_hand: true })">
              {{ $t('Enter a record for this one order by hand') }}
            </button>
          </p>
        </section>
        <section v-if="data.requests.length">
          <h2>
            {{ $t('Signing requests') }} <span class="quiet">{{ $t('their keys wait here') }}</span>
          </h2>
          <DataTable
            :id="(r) => r.id"
            :columns="requestColumns"
            :rows="data.requests"
            :caption="$t('Signing requests that wait for their certificates')"
          >
            <template #names="{ row }"
              >{{ row.names.join(', ') }}<br v-if="row.subject" /><span class="quiet">{{ row.subject }}</span></template
            >
            <template #acts="{ row }"
              ><span class="both"
                ><button type="button" class="link" @click="save(`${domain}.csr.pem`, row.request)">
                  {{ $t('Download') }}
                </button>
                {{ ' ' }}
                <button v-if="mayChange" type="button" class="link" @click="removeRequest(row)">
                  {{ $t('Remove…') }}
                </button></span
              ></template
            >
          </DataTable>
        </section>
        <section v-if="all.length">
          <h2>{{ $t('Certificates of this site') }}</h2>
          <DataTable
            :id="(c) => c.serial"
            :columns="columns"
            :rows="all"
            :caption="$t('Certificates that the site has and had, the newest first')"
          >
            <template #state="{ row }"
              ><b v-if="row.state === 'in use'">{{ $t('in use') }}</b
              ><template v-else>{{ named(row.state) }}</template></template
            >
            <template #issuer="{ row }"
              >{{ row.issuer }}<br /><code class="quiet">{{ row.serial }}</code></template
            >
            <template #acts="{ row }">
              <span class="links">
                <template v-if="row.state === 'in use'"
                  ><button type="button" class="link" @click="download">{{ $t('Download') }}</button>
                  {{ ' ' }}
                  <button
                    v-if="mayChange && session?.role === 'customer'"
                    type="button"
                    class="link"
                    @click="dialog = 'key'"
                  >
                    {{ $t('With its key…') }}
                  </button></template
                >
                <button
                  v-if="mayChange && row.revocable"
                  type="button"
                  class="link"
                  @click="revoke(row.state === 'in use' ? '' : row.serial)"
                >
                  {{ $t('Revoke…') }}
                </button>
              </span>
            </template>
          </DataTable>
        </section>
      </div>
    </div>
    <InstallFile v-model="installing" :account="account" :domain="domain" @done="after($event)" />
    <NewRequest v-model="requesting" :account="account" :certificate="data" @done="after()" />
    <TakeKey v-model="taking" :account="account" :domain="domain" />
    <RevokeNote v-model="revoking" :account="account" :domain="domain" :serial="serial" @done="after($event)" />
  </template>
</template>

<style scoped>
.failing {
  margin: 0.6rem 0 1rem;
  padding: 0.55rem 0.8rem;
  border-inline-start: 4px solid var(--signal);
  background: var(--signal-wash);
}
.failing p {
  margin: 0.15rem 0 0;
}
.left {
  display: grid;
  grid-template-columns: max-content minmax(0, 1fr);
  gap: 0.4rem 1.2rem;
  margin: 0;
}
.left dd {
  margin: 0;
  max-width: 50rem;
}
.whole {
  overflow-wrap: anywhere;
}
.links {
  display: inline-flex;
  flex-wrap: wrap;
  gap: 0 0.8rem;
}
@media (max-width: 760px) {
  .left {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
