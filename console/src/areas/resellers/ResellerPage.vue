<script setup lang="ts">
import { computed, reactive, ref, shallowRef } from 'vue'
import { ElButton, ElInput, ElRadio, ElRadioGroup } from 'element-plus'
import { useRouter } from 'vue-router'
import { api, ask, foreseen, made, type Schemas } from '../../api/client'
import { useAct } from '../../composables/useAct'
import { useLoad } from '../../composables/useLoad'
import { useLimits } from '../../composables/useLimits'
import { useOperation } from '../../composables/useOperation'
import { amount, moment } from '../../words'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import FactStrip from '../../parts/FactStrip.vue'
import FillBar from '../../parts/FillBar.vue'
import FormDialog from '../../parts/FormDialog.vue'
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
import { number, t } from '../../language'
import { named } from '../../codes'

const props = defineProps<{ reseller: string }>()
const router = useRouter()
const path = computed(() => ({ reseller: props.reseller }))
const { data, refusal, reload } = useLoad(
  () => ask(api.GET('/api/v1/resellers/{reseller}', { params: { path: path.value } })),
  { on: path, live: true },
)
const { data: share } = useLoad(
  () => ask(api.GET('/api/v1/resellers/{reseller}/share', { params: { path: path.value } })),
  { on: path, live: true },
)

type Line = Schemas['ShareLine']
const counts = computed(() => share.value?.lines.filter((l) => !l.bound))
const bounds = computed(() => share.value?.lines.filter((l) => l.bound))
const columns = computed<Column<Line>[]>(() => [
  { key: 'what', title: t('Limit'), text: (l) => l.title, long: true },
  { key: 'share', title: t('Share'), right: true, text: (l) => amount(l.share, l.unit) },
  {
    key: 'allotted',
    title: share.value?.measure === 'allotted' ? t('Allotted ●') : t('Allotted'),
    right: true,
    text: (l) => amount(l.allotted, l.unit),
  },
  {
    key: 'used',
    title: share.value?.measure === 'used' ? t('Used ●') : t('Used'),
    right: true,
    text: (l) => amount(l.used, l.unit),
  },
  { key: 'left', title: t('Left'), right: true },
])
const boundColumns: Column<Line>[] = [
  { key: 'what', title: t('Bound of each account'), text: (l) => l.title, long: true },
  { key: 'share', title: t('At most'), right: true, text: (l) => amount(l.share, l.unit) },
  { key: 'allotted', title: t('Most given'), right: true },
]
const known = useLimits()
const features = computed(() =>
  share.value?.features.map((key) => known.value?.features.find((f) => f.key === key)?.title ?? key).join(', '),
)
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
    if (
      !(await confirmed(
        t('Remove {reseller} with all their plans and sign-ins?', { reseller: props.reseller }),
        t('Remove'),
      ))
    )
      return
    await ask(api.DELETE('/api/v1/resellers/{reseller}', { params: { path: path.value } }))
    await router.push('/resellers')
  }, 'remove')
const actAs = () =>
  act(async () => {
    await ask(api.PUT('/api/v1/session/acting', { body: { reseller: props.reseller } }))
    location.assign('/')
  }, 'act')
</script>

<template>
  <NotHere v-if="!data && refusal" :refusal="refusal" to="/resellers" :label="$t('All resellers')" />
  <template v-if="data && share">
    <PageHead :title="data.title" :about="isOperator ? $t('Reseller {name}', { name: data.name }) : $t('Your share')">
      <template v-if="isOperator" #above
        ><RouterLink to="/resellers">{{ $t('Resellers') }}</RouterLink></template
      >
      <ElButton
        v-if="isOperator && may('people.act_as') && session?.duty === 'all' && !data.suspension"
        :loading="busy === 'act'"
        @click="actAs"
        >{{ $t('Act as them') }}</ElButton
      >
      <ElButton v-if="may('brand.change')" @click="router.push(`/resellers/${reseller}/brand`)">{{
        $t('Brand')
      }}</ElButton>
      <template v-if="may('resellers.change')">
        <ElButton v-if="data.suspension" :loading="busy === 'resume'" @click="resume">{{ $t('Resume') }}</ElButton>
        <ElButton v-else @click="((suspending = true), (preview = undefined))">{{ $t('Suspend…') }}</ElButton>
        <ElButton :loading="busy === 'remove'" @click="remove">{{ $t('Remove…') }}</ElButton>
        <ElButton type="primary" @click="router.push(`/resellers/${reseller}/change`)">{{
          $t('Change the share')
        }}</ElButton>
      </template>
    </PageHead>
    <p v-if="data.suspension" class="warn">
      {{
        $t('▲ Suspended since {since} by {by}: {why}.', {
          since: moment(data.suspension.since),
          by: data.suspension.by,
          why: data.suspension.why,
        })
      }}
      {{
        data.accounts_suspended ? $t('Their accounts are suspended with them.') : $t('Their accounts stay as they are.')
      }}
    </p>
    <FactStrip>
      <StripFact :name="$t('State')"><StateMark :state="data.suspension ? 'suspended' : 'active'" /></StripFact>
      <StripFact :name="$t('Accounts')"
        ><RouterLink :to="{ path: '/accounts', query: isOperator ? { reseller } : {} }">{{
          number(data.accounts)
        }}</RouterLink></StripFact
      >
      <StripFact :name="$t('Customers')"
        ><RouterLink :to="{ path: '/customers', query: isOperator ? { reseller } : {} }">{{
          number(data.customers)
        }}</RouterLink></StripFact
      >
      <StripFact :name="$t('Plans')"
        ><RouterLink :to="{ path: '/plans', query: isOperator ? { whose: reseller } : {} }">{{
          data.plans
        }}</RouterLink></StripFact
      >
      <StripFact :name="$t('Measured as')"
        ><b>{{ named(data.measure) }}</b></StripFact
      >
      <StripFact :name="data.measure === 'used' ? $t('Disk used') : $t('Disk allotted')"
        ><FillBar :used="taken" :of="disk?.share" unit="bytes" :what="$t('Disk space')"
      /></StripFact>
    </FactStrip>
    <ProblemNote :refusal="acting" />
    <section v-if="operation" :aria-label="$t('Steps')"><StepList :operation="operation" /></section>
    <div class="halves">
      <section>
        <h2>
          {{ $t('Share') }}
          <span class="quiet">{{
            share.measure === 'used'
              ? $t('what is left follows from what is used ●')
              : $t('what is left follows from what is allotted ●')
          }}</span>
        </h2>
        <DataTable :id="(l) => l.key" :columns="columns" :rows="counts" :caption="$t('Share, allotted, used and left')">
          <template #left="{ row }"
            ><span :class="{ warn: row.over }">{{
              row.over ? $t('▲ over') : amount(row.left, row.unit)
            }}</span></template
          >
        </DataTable>
      </section>
      <div>
        <section>
          <h2>{{ $t('For each account') }}</h2>
          <DataTable :id="(l) => l.key" :columns="boundColumns" :rows="bounds" :caption="$t('Bounds of each account')">
            <template #allotted="{ row }"
              ><span :class="{ warn: row.over }"
                >{{ row.over ? '▲ ' : '' }}{{ amount(row.allotted, row.unit) }}</span
              ></template
            >
          </DataTable>
          <p class="quiet">
            {{
              $t('Features that can be switched on: {what}.', {
                what: features || $t('none'),
              })
            }}
          </p>
        </section>
        <section v-if="may('people.read')">
          <PeopleTable
            :query="isOperator ? { reseller, role: 'reseller' } : { role: 'reseller' }"
            :add="{ reseller }"
            :title="$t('Who signs in for them')"
          />
        </section>
      </div>
    </div>
    <FormDialog
      id="suspend"
      v-model="suspending"
      :title="$t('Suspend {title}?', { title: data.title })"
      :width="36"
      :action="$t('Suspend')"
      :ready="!!form.why.trim()"
      :busy="busy === 'suspend'"
      :dirty="!!form.why"
      :refusal="acting"
      @submit="suspend"
    >
      <p>{{ $t('Nobody of theirs can sign in until they are resumed; whoever tries is told why.') }}</p>
      <FormField :label="$t('Reason')" for="why" :error="acting?.field('why')"
        ><ElInput id="why" v-model="form.why" maxlength="500"
      /></FormField>
      <ElRadioGroup
        v-model="form.accounts"
        :aria-label="$t('Their accounts')"
        class="choice"
        @change="preview = undefined"
      >
        <ElRadio value="stay">{{
          $t('their {n} account stays as it is | their {n} accounts stay as they are', { n: data.accounts })
        }}</ElRadio>
        <ElRadio value="suspend">{{
          $t(
            'their {n} account is suspended too: visitors see a notice | their {n} accounts are suspended too: visitors see a notice',
            { n: data.accounts },
          )
        }}</ElRadio>
      </ElRadioGroup>
      <PreviewNote v-if="preview" :preview="preview" />
      <template #acts>
        <ElButton :disabled="!form.why.trim()" :loading="busy === 'preview'" @click="look">{{
          $t('Preview')
        }}</ElButton>
      </template>
    </FormDialog>
  </template>
</template>

<style scoped>
.choice {
  display: grid;
  justify-items: start;
}
</style>
