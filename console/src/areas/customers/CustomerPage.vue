<script setup lang="ts">
import { computed, ref, watch, watchEffect } from 'vue'
import { ElButton, ElInput } from 'element-plus'
import { useRouter } from 'vue-router'
import { api, ask, made, type Schemas } from '../../api/client'
import { useAct } from '../../composables/useAct'
import { useLoad } from '../../composables/useLoad'
import { ago, moment } from '../../words'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import FactList from '../../parts/FactList.vue'
import FillBar from '../../parts/FillBar.vue'
import NotHere from '../../parts/NotHere.vue'
import PageHead from '../../parts/PageHead.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import StateMark from '../../parts/StateMark.vue'
import PeopleTable from '../people/PeopleTable.vue'
import { may } from '../session/state'
import { confirmed } from '../../parts/confirm'

const props = defineProps<{ customer: string }>()
const router = useRouter()
const path = computed(() => ({ customer: props.customer }))
const { data, refusal } = useLoad(
  () => ask(api.GET('/api/v1/customers/{customer}', { params: { path: path.value } })),
  { on: path },
)
const { data: accounts } = useLoad(
  () => ask(api.GET('/api/v1/accounts', { params: { query: { customer: props.customer, limit: 100 } } })),
  { on: path },
)
const { data: notes } = useLoad(
  async () =>
    may('customers.notes')
      ? ask(api.GET('/api/v1/customers/{customer}/notes', { params: { path: path.value } }))
      : undefined,
  { on: path },
)
const { data: mails } = useLoad(
  async () =>
    may('customers.notes')
      ? ask(api.GET('/api/v1/customers/{customer}/mails', { params: { path: path.value } }))
      : undefined,
  { on: path, every: 10_000 },
)
watchEffect(() => {
  if (data.value) document.title = `${data.value.name} · Victualler`
})

const text = ref('')
watch(notes, (n) => (text.value = n?.notes ?? ''))
const { refusal: acting, busy, act } = useAct()
const saveNotes = () =>
  act(async () => {
    notes.value = await made(
      api.PUT('/api/v1/customers/{customer}/notes', { params: { path: path.value }, body: { notes: text.value } }),
    )
  }, 'notes')
const remove = () =>
  act(async () => {
    if (!(await confirmed(`Remove ${data.value?.name} with all contact data and sign-ins?`, 'Remove'))) return
    await ask(api.DELETE('/api/v1/customers/{customer}', { params: { path: path.value } }))
    await router.push('/customers')
  }, 'remove')
const actAs = () =>
  act(async () => {
    await ask(api.PUT('/api/v1/session/acting', { body: { customer: data.value!.id } }))
    location.assign('/accounts')
  }, 'act')

const columns: Column<Schemas['Account']>[] = [
  { key: 'domain', title: 'Domain', long: true },
  { key: 'plan', title: 'Plan', text: (a) => a.plan, wide: true },
  { key: 'disk', title: 'Disk', wide: true },
  { key: 'state', title: 'State' },
]
const facts = computed<[string, string][]>(() => {
  const c = data.value
  if (!c) return []
  const all: [string, string | undefined][] = [
    ['Number', String(c.id)],
    ['Reseller', c.reseller],
    ['Contact', c.contact],
    ['Mail', c.email],
    ['Telephone', c.phone],
    ['Postal address', c.postal],
    ['Notices in', { en: 'English', de: 'Deutsch' }[c.language]],
    ['Since', moment(c.since)],
  ]
  return all.filter((f): f is [string, string] => Boolean(f[1]))
})
</script>

<template>
  <NotHere v-if="!data && refusal" :refusal="refusal" to="/customers" label="All customers" />
  <template v-if="data">
    <PageHead :title="data.name">
      <template #above><RouterLink to="/customers">Customers</RouterLink></template>
      <ElButton v-if="may('people.act_as')" :loading="busy === 'act'" @click="actAs">Act as them</ElButton>
      <ElButton v-if="may('customers.change')" :loading="busy === 'remove'" @click="remove">Remove…</ElButton>
      <ElButton v-if="may('customers.change')" @click="router.push(`/customers/${customer}/change`)">Change</ElButton>
      <ElButton
        v-if="may('accounts.open')"
        type="primary"
        @click="router.push({ path: '/accounts/open', query: { customer: data.name, reseller: data.reseller } })"
        >Open an account</ElButton
      >
    </PageHead>
    <ProblemNote :refusal="acting" />
    <div class="halves">
      <div>
        <section>
          <h2>Accounts</h2>
          <DataTable
            :id="(a) => a.id"
            :columns="columns"
            :rows="accounts?.accounts"
            :to="(a) => `/accounts/${a.sign_in_name}`"
            caption="Accounts of the customer"
          >
            <template #domain="{ row }"
              ><RouterLink :to="`/accounts/${row.sign_in_name}`">{{ row.name }}</RouterLink></template
            >
            <template #disk="{ row }"
              ><FillBar :used="row.disk_used" :of="row.disk_limit" unit="bytes" what="Disk space"
            /></template>
            <template #state="{ row }"><StateMark :state="row.state" /></template>
            <template #empty><p class="quiet">None is open.</p></template>
          </DataTable>
          <p v-if="accounts?.next">
            <RouterLink :to="{ path: '/accounts', query: { customer: String(data.id) } }"
              >All {{ data.accounts.toLocaleString('en') }} accounts</RouterLink
            >
          </p>
        </section>
        <section v-if="may('people.read')">
          <PeopleTable
            :query="{ customer: String(data.id) }"
            :add="{ customer: data.id, email: data.email, language: data.language }"
            title="Who signs in for them"
          />
        </section>
      </div>
      <div>
        <section>
          <h2>Contact</h2>
          <FactList :facts="facts" />
        </section>
        <section v-if="notes">
          <h2><label for="notes">Notes</label> <span class="quiet">for staff; the customer never sees them</span></h2>
          <ElInput
            id="notes"
            v-model="text"
            type="textarea"
            :rows="5"
            maxlength="20000"
            :readonly="!may('notes.change')"
          />
          <div v-if="may('notes.change')" class="acts keep">
            <ElButton size="small" :disabled="text === notes.notes" :loading="busy === 'notes'" @click="saveNotes"
              >Save notes</ElButton
            >
          </div>
        </section>
        <section v-if="mails?.mails.length">
          <h2>Mail to them</h2>
          <ul class="notes">
            <li v-for="(m, n) in mails.mails" :key="n">
              <StateMark :state="m.state" /> {{ m.kind }} to {{ m.to }}, {{ ago(m.created_at)
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
