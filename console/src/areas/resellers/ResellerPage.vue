<script setup lang="ts">
import { computed, reactive, ref, shallowRef } from 'vue'
import { ElButton, ElDialog, ElInput, ElRadio, ElRadioGroup } from 'element-plus'
import { useRouter } from 'vue-router'
import { api, ask, foreseen, made, type Schemas } from '../../api/client'
import { useAct } from '../../composables/useAct'
import { useLoad } from '../../composables/useLoad'
import { useOperation } from '../../composables/useOperation'
import { amount, counted, moment } from '../../words'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import FactStrip from '../../parts/FactStrip.vue'
import FillBar from '../../parts/FillBar.vue'
import FormField from '../../parts/FormField.vue'
import NotHere from '../../parts/NotHere.vue'
import PageHead from '../../parts/PageHead.vue'
import PreviewNote from '../../parts/PreviewNote.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import StateMark from '../../parts/StateMark.vue'
import StepList from '../../parts/StepList.vue'
import StripFact from '../../parts/StripFact.vue'
import PeopleTable from '../people/PeopleTable.vue'
import { isOperator, may, session } from '../session/state'
import { confirmed } from '../../parts/confirm'

const props = defineProps<{ reseller: string }>()
const router = useRouter()
const path = computed(() => ({ reseller: props.reseller }))
const { data, refusal, reload } = useLoad(
  () => ask(api.GET('/api/v1/resellers/{reseller}', { params: { path: path.value } })),
  { on: path, every: 15_000 },
)
const { data: share } = useLoad(
  () => ask(api.GET('/api/v1/resellers/{reseller}/share', { params: { path: path.value } })),
  { on: path, every: 15_000 },
)

type Line = Schemas['ShareLine']
const counts = computed(() => share.value?.lines.filter((l) => !l.bound))
const bounds = computed(() => share.value?.lines.filter((l) => l.bound))
const columns = computed<Column<Line>[]>(() => [
  { key: 'what', title: 'Limit', text: (l) => l.title, long: true },
  { key: 'share', title: 'Share', right: true, text: (l) => amount(l.share, l.unit) },
  {
    key: 'allotted',
    title: share.value?.measure === 'allotted' ? 'Allotted ●' : 'Allotted',
    right: true,
    text: (l) => amount(l.allotted, l.unit),
  },
  {
    key: 'used',
    title: share.value?.measure === 'used' ? 'Used ●' : 'Used',
    right: true,
    text: (l) => amount(l.used, l.unit),
  },
  { key: 'left', title: 'Left', right: true },
])
const boundColumns: Column<Line>[] = [
  { key: 'what', title: 'Bound of each account', text: (l) => l.title, long: true },
  { key: 'share', title: 'At most', right: true, text: (l) => amount(l.share, l.unit) },
  { key: 'allotted', title: 'Most given', right: true },
]
const disk = computed(() => share.value?.lines.find((l) => l.key === 'disk'))
const taken = computed(() => (share.value?.measure === 'used' ? disk.value?.used : disk.value?.allotted))

const suspending = ref(false)
const form = reactive({ why: '', accounts: 'stay' as 'stay' | 'suspend' })
const preview = shallowRef<Schemas['Preview']>()
const started = ref<number>()
const { operation } = useOperation(started, () => void reload())
const { refusal: acting, busy, act } = useAct()
const look = () =>
  act(async () => {
    preview.value = await foreseen(
      api.POST('/api/v1/resellers/{reseller}/suspend', {
        params: { path: path.value, query: { preview: true } },
        body: form,
      }),
    )
  }, 'preview')
const suspend = () =>
  act(async () => {
    const done = await made(
      api.POST('/api/v1/resellers/{reseller}/suspend', { params: { path: path.value }, body: form }),
    )
    started.value = done.operation || undefined
    suspending.value = false
    await reload()
  }, 'suspend')
const resume = () =>
  act(async () => {
    const done = await made(api.POST('/api/v1/resellers/{reseller}/resume', { params: { path: path.value } }))
    started.value = done.operation || undefined
    await reload()
  }, 'resume')
const remove = () =>
  act(async () => {
    if (!(await confirmed(`Remove ${props.reseller} with all their plans and sign-ins?`, 'Remove'))) return
    await ask(api.DELETE('/api/v1/resellers/{reseller}', { params: { path: path.value } }))
    await router.push('/resellers')
  }, 'remove')
const actAs = () =>
  act(async () => {
    await ask(api.PUT('/api/v1/session/acting', { body: { reseller: props.reseller } }))
    location.assign('/accounts')
  }, 'act')
</script>

<template>
  <NotHere v-if="!data && refusal" :refusal="refusal" to="/resellers" label="All resellers" />
  <template v-if="data && share">
    <PageHead :title="data.title" :about="isOperator ? `Reseller ${data.name}` : 'Your share'">
      <template v-if="isOperator" #above><RouterLink to="/resellers">Resellers</RouterLink></template>
      <ElButton
        v-if="isOperator && may('people.act_as') && session?.duty === 'all' && !data.suspension"
        :loading="busy === 'act'"
        @click="actAs"
        >Act as them</ElButton
      >
      <ElButton v-if="may('brand.change')" @click="router.push(`/resellers/${reseller}/brand`)">Brand</ElButton>
      <template v-if="may('resellers.change')">
        <ElButton v-if="data.suspension" :loading="busy === 'resume'" @click="resume">Resume</ElButton>
        <ElButton v-else @click="((suspending = true), (preview = undefined))">Suspend…</ElButton>
        <ElButton :loading="busy === 'remove'" @click="remove">Remove…</ElButton>
        <ElButton type="primary" @click="router.push(`/resellers/${reseller}/change`)">Change the share</ElButton>
      </template>
    </PageHead>
    <p v-if="data.suspension" class="warn">
      ▲ Suspended since {{ moment(data.suspension.since) }} by {{ data.suspension.by }}: {{ data.suspension.why }}.
      Their accounts {{ data.accounts_suspended ? 'are suspended with them' : 'stay as they are' }}.
    </p>
    <FactStrip>
      <StripFact name="State"><StateMark :state="data.suspension ? 'suspended' : 'active'" /></StripFact>
      <StripFact name="Accounts"
        ><RouterLink :to="{ path: '/accounts', query: isOperator ? { reseller } : {} }">{{
          data.accounts.toLocaleString('en')
        }}</RouterLink></StripFact
      >
      <StripFact name="Customers"
        ><RouterLink :to="{ path: '/customers', query: isOperator ? { reseller } : {} }">{{
          data.customers.toLocaleString('en')
        }}</RouterLink></StripFact
      >
      <StripFact name="Plans"
        ><RouterLink :to="{ path: '/plans', query: isOperator ? { whose: reseller } : {} }">{{
          data.plans
        }}</RouterLink></StripFact
      >
      <StripFact name="Measured as"
        ><b>{{ data.measure }}</b></StripFact
      >
      <StripFact :name="`Disk ${data.measure}`"
        ><FillBar :used="taken" :of="disk?.share" unit="bytes" what="Disk space"
      /></StripFact>
    </FactStrip>
    <ProblemNote :refusal="acting" />
    <section v-if="operation" aria-label="Steps"><StepList :operation="operation" /></section>
    <div class="halves">
      <section>
        <h2>
          Share <span class="quiet">what is left follows from what is {{ share.measure }} ●</span>
        </h2>
        <DataTable :id="(l) => l.key" :columns="columns" :rows="counts" caption="Share, allotted, used and left">
          <template #left="{ row }"
            ><span :class="{ warn: row.over }">{{ row.over ? '▲ over' : amount(row.left, row.unit) }}</span></template
          >
        </DataTable>
      </section>
      <div>
        <section>
          <h2>For each account</h2>
          <DataTable :id="(l) => l.key" :columns="boundColumns" :rows="bounds" caption="Bounds of each account">
            <template #allotted="{ row }"
              ><span :class="{ warn: row.over }"
                >{{ row.over ? '▲ ' : '' }}{{ amount(row.allotted, row.unit) }}</span
              ></template
            >
          </DataTable>
          <p class="quiet">
            Features that can be switched on: {{ share.features.join(', ').replaceAll('_', ' ') || 'none' }}.
          </p>
        </section>
        <section v-if="may('people.read')">
          <PeopleTable
            :query="isOperator ? { reseller, role: 'reseller' } : { role: 'reseller' }"
            :add="{ reseller }"
            title="Who signs in for them"
          />
        </section>
      </div>
    </div>
    <ElDialog v-model="suspending" :title="`Suspend ${data.title}?`" width="min(36rem, 94vw)">
      <form id="suspend" class="stack" @submit.prevent="suspend">
        <p>Nobody of theirs can sign in until they are resumed; whoever tries is told why.</p>
        <FormField label="Reason" for="why" :error="acting?.field('why')"
          ><ElInput id="why" v-model="form.why" maxlength="500"
        /></FormField>
        <ElRadioGroup v-model="form.accounts" aria-label="Their accounts" class="choice" @change="preview = undefined">
          <ElRadio value="stay">their {{ counted(data.accounts, 'account') }} stay as they are</ElRadio>
          <ElRadio value="suspend"
            >their {{ counted(data.accounts, 'account') }} are suspended too: visitors see a notice</ElRadio
          >
        </ElRadioGroup>
        <PreviewNote v-if="preview" :preview="preview" />
        <ProblemNote :refusal="acting" />
      </form>
      <template #footer>
        <ElButton @click="suspending = false">Cancel</ElButton>
        <ElButton :disabled="!form.why.trim()" :loading="busy === 'preview'" @click="look">Preview</ElButton>
        <ElButton
          type="primary"
          native-type="submit"
          form="suspend"
          :disabled="!form.why.trim()"
          :loading="busy === 'suspend'"
          >Suspend</ElButton
        >
      </template>
    </ElDialog>
  </template>
</template>

<style scoped>
.choice {
  display: grid;
  justify-items: start;
}
</style>
