<script setup lang="ts">
import { computed, ref, watch, watchEffect, type ComputedRef } from 'vue'
import { ElButton, ElInput } from 'element-plus'
import { useRouter } from 'vue-router'
import { api, ask, made, type Schemas } from '../../api/client'
import { useAct } from '../../composables/useAct'
import { useLoad } from '../../composables/useLoad'
import { useUnsaved } from '../../composables/useUnsaved'
import { ago, moment } from '../../words'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import FactList from '../../parts/FactList.vue'
import FillBar from '../../parts/FillBar.vue'
import OutdatedNote from '../../parts/OutdatedNote.vue'
import NotHere from '../../parts/NotHere.vue'
import PageHead from '../../parts/PageHead.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import StateMark from '../../parts/StateMark.vue'
import PeopleTable from '../people/PeopleTable.vue'
import { may } from '../session/state'
import { confirmed } from '../../parts/confirm'
import { nameOf, t } from '../../language'

const props = defineProps<{ customer: string }>()
const router = useRouter()
const path = computed(() => ({ customer: props.customer }))
const { data, refusal } = useLoad(
  () => ask(api.GET('/api/v1/customers/{customer}', { params: { path: path.value } })),
  { on: path, live: true },
)
const { data: accounts } = useLoad(
  () => ask(api.GET('/api/v1/accounts', { params: { query: { customer: props.customer, limit: 100 } } })),
  { on: path, live: true },
)
const {
  data: notes,
  outdated,
  showLatest,
} = useLoad(
  async () =>
    may('customers.notes')
      ? ask(api.GET('/api/v1/customers/{customer}/notes', { params: { path: path.value } }))
      : undefined,
  { on: path, live: true, editing: () => typed.value },
)
const { data: mails } = useLoad(
  async () =>
    may('customers.notes')
      ? ask(api.GET('/api/v1/customers/{customer}/mails', { params: { path: path.value } }))
      : undefined,
  { on: path, live: true },
)
watchEffect(() => {
  if (data.value) document.title = `${data.value.name} · Victualler`
})

const text = ref('')
watch(notes, (n) => (text.value = n?.notes ?? ''))
const typed: ComputedRef<boolean> = computed(() => notes.value !== undefined && text.value !== notes.value.notes)
const saved = useUnsaved(() => typed.value)
const { refusal: acting, busy, act } = useAct()
const saveNotes = () =>
  act(async () => {
    notes.value = await made(
      api.PUT('/api/v1/customers/{customer}/notes', { params: { path: path.value }, body: { notes: text.value } }),
    )
  }, 'notes')
const remove = () =>
  act(async () => {
    if (
      !(await confirmed(
        t('Remove {name} with all contact data and sign-ins?', { name: data.value?.name }),
        t('Remove'),
      ))
    )
      return
    await ask(api.DELETE('/api/v1/customers/{customer}', { params: { path: path.value } }))
    saved()
    await router.push('/customers')
  }, 'remove')
const actAs = () =>
  act(async () => {
    await ask(api.PUT('/api/v1/session/acting', { body: { customer: data.value!.id } }))
    location.assign('/')
  }, 'act')

const columns: Column<Schemas['Account']>[] = [
  { key: 'domain', title: t('Domain'), long: true },
  { key: 'plan', title: t('Plan'), text: (a) => a.plan, wide: true },
  { key: 'disk', title: t('Disk'), wide: true },
  { key: 'state', title: t('State') },
]
const facts = computed<[string, string][]>(() => {
  const c = data.value
  if (!c) return []
  const all: [string, string | undefined][] = [
    [t('Number'), String(c.id)],
    [t('Reseller'), c.reseller],
    [t('Contact'), c.contact],
    [t('Mail'), c.email],
    [t('Telephone'), c.phone],
    [t('Postal address'), c.postal],
    [t('Notices in'), nameOf(c.language)],
    [t('Since'), moment(c.since)],
  ]
  return all.filter((f): f is [string, string] => Boolean(f[1]))
})
</script>

<template>
  <NotHere v-if="!data && refusal" :refusal="refusal" to="/customers" :label="$t('All customers')" />
  <template v-if="data">
    <PageHead :title="data.name">
      <template #above
        ><RouterLink to="/customers">{{ $t('Customers') }}</RouterLink></template
      >
      <ElButton v-if="may('people.act_as')" :loading="busy === 'act'" @click="actAs">{{ $t('Act as them') }}</ElButton>
      <ElButton v-if="may('customers.change')" :loading="busy === 'remove'" @click="remove">{{
        $t('Remove…')
      }}</ElButton>
      <ElButton v-if="may('customers.change')" @click="router.push(`/customers/${customer}/change`)">{{
        $t('Change')
      }}</ElButton>
      <ElButton
        v-if="may('accounts.open')"
        type="primary"
        @click="router.push({ path: '/accounts/open', query: { customer: data.name, reseller: data.reseller } })"
        >{{ $t('Open an account') }}</ElButton
      >
    </PageHead>
    <ProblemNote :refusal="acting" />
    <div class="halves">
      <div>
        <section>
          <h2>{{ $t('Accounts') }}</h2>
          <DataTable
            :id="(a) => a.id"
            :columns="columns"
            :rows="accounts?.accounts"
            :to="(a) => `/accounts/${a.sign_in_name}`"
            :caption="$t('Accounts of the customer')"
          >
            <template #domain="{ row }"
              ><RouterLink :to="`/accounts/${row.sign_in_name}`">{{ row.name }}</RouterLink></template
            >
            <template #disk="{ row }"
              ><FillBar :used="row.disk_used" :of="row.disk_limit" unit="bytes" :what="$t('Disk space')"
            /></template>
            <template #state="{ row }"><StateMark :state="row.state" /></template>
            <template #empty
              ><p class="quiet">{{ $t('No account is open.') }}</p></template
            >
          </DataTable>
          <p v-if="accounts?.next">
            <RouterLink :to="{ path: '/accounts', query: { customer: String(data.id) } }">{{
              $t('All {accounts} accounts', { accounts: data.accounts })
            }}</RouterLink>
          </p>
        </section>
        <section v-if="may('people.read')">
          <PeopleTable
            :query="{ customer: String(data.id) }"
            :add="{ customer: data.id, email: data.email, language: data.language }"
            :title="$t('Who signs in for them')"
          />
        </section>
      </div>
      <div>
        <section>
          <h2>{{ $t('Contact') }}</h2>
          <FactList :facts="facts" />
        </section>
        <section v-if="notes">
          <h2>
            <label for="notes">{{ $t('Notes') }}</label>{{ ' ' }}
            <span class="quiet">{{ $t('for staff; the customer never sees them') }}</span>
          </h2>
          <ElInput
            id="notes"
            v-model="text"
            type="textarea"
            :rows="5"
            maxlength="20000"
            :readonly="!may('notes.change')"
          />
          <OutdatedNote v-if="outdated" @show="showLatest">{{
            $t('Somebody has changed the notes since you began to type; saving yours replaces them.')
          }}</OutdatedNote>
          <div v-if="may('notes.change')" class="acts keep">
            <ElButton size="small" :disabled="!typed" :loading="busy === 'notes'" @click="saveNotes">{{
              $t('Save notes')
            }}</ElButton>
          </div>
        </section>
        <section v-if="mails?.mails.length">
          <h2>{{ $t('Mail to them') }}</h2>
          <ul class="notes">
            <li v-for="(m, n) in mails.mails" :key="n">
              <StateMark :state="m.state" />
              {{ $t('{kind} to {address}, {ago}', { kind: m.kind, address: m.to, ago: ago(m.created_at) })
              }}<span v-if="m.failure" class="warn">: {{ m.failure }}</span>
            </li>
          </ul>
        </section>
      </div>
    </div>
  </template>
</template>

<style scoped>
.keep {
  margin-top: 0.4rem;
}
</style>
