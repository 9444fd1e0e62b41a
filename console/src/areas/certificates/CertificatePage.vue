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
import { moment, until } from '../../words'
import { may, session } from '../session/state'
import ComingForm from './ComingForm.vue'
import InstallFile from './InstallFile.vue'
import NewRequest from './NewRequest.vue'
import RehearsalNote from './RehearsalNote.vue'
import RevokeNote from './RevokeNote.vue'
import TakeKey from './TakeKey.vue'
import { save } from './save'
import { confirmed } from '../../parts/confirm'

const props = defineProps<{ account: string; domain: string }>()
const path = computed(() => ({ account: props.account, domain: props.domain }))
const params = computed(() => ({ path: path.value }))
const {
  data,
  refusal: missing,
  reload,
} = useLoad(() => ask(api.GET('/api/v1/accounts/{account}/domains/{domain}/certificate', { params: params.value })), {
  on: path,
  every: 5000,
})
const started = ref<number>()
const { operation } = useOperation(started, () => void reload())
const { refusal, busy, act } = useAct()
watchEffect(() => {
  document.title = `Certificate of ${props.domain} · Victualler`
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
    if (!(await confirmed('Cancel the order?', 'Cancel the order'))) return
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
        'Delete this request and its key? A certificate issued for it can no longer be used.',
        'Delete',
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
  { key: 'name', title: 'Name', long: true },
  { key: 'type', title: 'Type', text: (r) => r.type },
  { key: 'data', title: 'Data', long: true },
  { key: 'shown', title: 'Seen', long: true },
]
const requestColumns: Column<Schemas['SigningRequest']>[] = [
  { key: 'names', title: 'For', long: true },
  { key: 'created_at', title: 'Waits since', wide: true, text: (r) => moment(r.created_at).slice(0, 10) },
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
  moment(at).slice(0, new Date(c.until).getTime() - new Date(c.from).getTime() < 8 * 86400000 ? 16 : 10)
const columns: Column<Row>[] = [
  { key: 'from', title: 'From', text: (c) => edge(c, c.from) },
  { key: 'until', title: 'Until', wide: true, text: (c) => edge(c, c.until) },
  { key: 'state', title: 'State' },
  { key: 'issuer', title: 'Issuer and serial', wide: true, long: true },
  { key: 'acts', title: '', right: true },
]
</script>

<template>
  <NotHere v-if="!data && missing" :refusal="missing" to="/certificates" label="All certificates" />
  <template v-if="data">
    <PageHead :title="data.domain" about="Certificate">
      <template #above
        ><RouterLink to="/certificates">Certificates</RouterLink> ›
        <RouterLink :to="`/accounts/${account}`">{{ account }}</RouterLink> ›
        <RouterLink :to="`/accounts/${account}/domains/${domain}`">Site</RouterLink></template
      >
      <template v-if="mayChange">
        <ElButton :loading="busy === 'rehearse'" @click="rehearse">Rehearse</ElButton>
        <ElButton
          v-if="orderable"
          :type="data.state === 'valid' ? 'default' : 'primary'"
          :loading="busy === 'order'"
          @click="order({})"
          >Order now</ElButton
        >
        <ElButton @click="dialog = 'install'">Install a certificate…</ElButton>
        <ElButton @click="dialog = 'request'">Signing request…</ElButton>
      </template>
    </PageHead>
    <FactStrip>
      <StripFact name="State"><StateMark :state="data.state" /></StripFact>
      <StripFact name="Ends"
        ><template v-if="data.not_after"
          >{{ moment(data.not_after).slice(0, 16)
          }}<span :class="soon ? 'warn' : 'quiet'">{{ until(data.not_after) }}</span></template
        ><template v-else>never: self-signed by its server</template></StripFact
      >
      <StripFact name="For">{{
        data.covered.length ? data.covered.join(', ') : 'no name that browsers trust'
      }}</StripFact>
      <StripFact v-if="data.issuer" name="Issued by">{{ data.issuer }}</StripFact>
      <StripFact v-if="data.renew_at" name="Renewed automatically">{{ moment(data.renew_at).slice(0, 16) }}</StripFact>
      <StripFact v-else-if="data.next_try && !data.operation" name="Next try">{{
        moment(data.next_try).slice(0, 16)
      }}</StripFact>
    </FactStrip>
    <ProblemNote :refusal="refusal"
      ><ElButton v-if="leaveOut" size="small" @click="order({ leave_out: true })"
        >Order for the others; it is added when it passes</ElButton
      ></ProblemNote
    >
    <div v-if="data.failures && !data.operation" class="failing">
      <strong>✕ {{ data.failures === 1 ? 'The last try failed' : `The last ${data.failures} tries failed` }}</strong>
      <p>{{ data.problem }}</p>
      <p class="quiet">
        Since {{ moment(data.failing_since).slice(0, 16)
        }}<template v-if="data.next_try">; tried again {{ moment(data.next_try).slice(0, 16) }}</template
        >.
        <span v-if="mayChange" class="links"
          ><button v-if="!rehearsal" type="button" class="link" @click="rehearse">What is to be done?</button>
          {{ ' ' }}
          <button v-if="orderable" type="button" class="link" @click="order({ by_hand: true })">
            Prove the names by hand
          </button></span
        >
      </p>
    </div>
    <section v-if="operation" aria-label="Steps">
      <div class="titled">
        <h2>{{ operation.kind }}</h2>
        <ElButton v-if="mayChange && data.operation" size="small" @click="takeBack">Cancel the order</ElButton>
      </div>
      <StepList :operation="operation" />
    </section>
    <section v-if="byHand">
      <h2>
        Enter these records where the zone is
        <span class="quiet">the order continues when all name servers show them</span>
      </h2>
      <DataTable
        :id="(r) => r.data"
        :columns="recordColumns"
        :rows="data.records"
        caption="Records that prove the names"
      >
        <template #name="{ row }"
          ><code>{{ row.name }}.</code></template
        >
        <template #data="{ row }"
          ><code>{{ row.data }}</code></template
        >
        <template #shown="{ row }"
          ><template v-if="row.visible">● by all</template
          ><template v-else-if="row.checked_at">◔ not by {{ row.missing.join(', ') }}</template
          ><template v-else>◔ not looked for yet</template></template
        >
      </DataTable>
    </section>
    <RehearsalNote v-if="rehearsal" :rehearsal="rehearsal" />
    <section v-if="data.left_out.length && !data.operation">
      <h2>Names it is not for <span class="quiet">added when they pass</span></h2>
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
          <h2>Its DNS is hosted elsewhere</h2>
          <p>
            Entered there once, {{ data.aliases.length === 1 ? 'this record proves' : 'these records prove' }} the
            site’s names for good:
          </p>
          <p v-for="a in data.aliases" :key="a.name">
            <code class="whole">{{ a.name }}. CNAME {{ a.target }}.</code>
          </p>
          <p v-if="orderable">
            Or
            <button type="button" class="link" @click="order({ by_hand: true })">
              enter a record for this one order by hand</button
            >.
          </p>
        </section>
        <section v-if="data.requests.length">
          <h2>Signing requests <span class="quiet">their keys wait here</span></h2>
          <DataTable
            :id="(r) => r.id"
            :columns="requestColumns"
            :rows="data.requests"
            caption="Signing requests that wait for their certificates"
          >
            <template #names="{ row }"
              >{{ row.names.join(', ') }}<br v-if="row.subject" /><span class="quiet">{{ row.subject }}</span></template
            >
            <template #acts="{ row }"
              ><span class="both"
                ><button type="button" class="link" @click="save(`${domain}.csr.pem`, row.request)">Download</button>
                {{ ' ' }}
                <button v-if="mayChange" type="button" class="link" @click="removeRequest(row)">Remove…</button></span
              ></template
            >
          </DataTable>
        </section>
        <section v-if="all.length">
          <h2>Certificates of this site</h2>
          <DataTable
            :id="(c) => c.serial"
            :columns="columns"
            :rows="all"
            caption="Certificates that the site has and had, the newest first"
          >
            <template #state="{ row }"
              ><b v-if="row.state === 'in use'">in use</b><template v-else>{{ row.state }}</template></template
            >
            <template #issuer="{ row }"
              >{{ row.issuer }}<br /><code class="quiet">{{ row.serial }}</code></template
            >
            <template #acts="{ row }">
              <span class="links">
                <template v-if="row.state === 'in use'"
                  ><button type="button" class="link" @click="download">Download</button>
                  {{ ' ' }}
                  <button
                    v-if="mayChange && session?.role === 'customer'"
                    type="button"
                    class="link"
                    @click="dialog = 'key'"
                  >
                    With its key…
                  </button></template
                >
                <button
                  v-if="mayChange && row.revocable"
                  type="button"
                  class="link"
                  @click="revoke(row.state === 'in use' ? '' : row.serial)"
                >
                  Revoke…
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
  border-left: 4px solid var(--signal);
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
