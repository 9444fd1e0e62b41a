<script setup lang="ts">
import { computed, reactive } from 'vue'
import { ElButton, ElCheckbox, ElInput } from 'element-plus'
import { useRouter } from 'vue-router'
import { api, ask, type Schemas } from '../../api/client'
import { useFilters } from '../../composables/useFilters'
import { useLoad } from '../../composables/useLoad'
import { useResellers } from '../../composables/useResellers'
import { useTyped } from '../../composables/useTyped'
import { amount } from '../../words'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import PageHead from '../../parts/PageHead.vue'
import PageTurner from '../../parts/PageTurner.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import ResellerPick from '../../parts/ResellerPick.vue'
import { may } from '../session/state'
import { refOf } from './names'
import { number, t } from '../../language'

type Plan = Schemas['Plan']

const router = useRouter()
const { search, whose, cursor } = useFilters('search', 'whose', 'cursor')
const typed = useTyped(search)
const query = computed(() => ({
  search: search.value || undefined,
  own: whose.value === '-' || undefined,
  reseller: (whose.value !== '-' && whose.value) || undefined,
  cursor: cursor.value || undefined,
  limit: 100,
}))
const { data, refusal } = useLoad(() => ask(api.GET('/api/v1/plans', { params: { query: query.value } })), {
  on: query,
  live: true,
})
const hasResellers = useResellers()

const chosen = reactive(new Set<string>())
const most = 6
function choose(plan: Plan, on: boolean) {
  if (on) chosen.add(refOf(plan))
  else chosen.delete(refOf(plan))
}

const cell = (key: keyof Plan['limits'], unit: string) => (p: Plan) => amount(p.limits[key], unit)
const columns: Column<Plan>[] = [
  { key: 'choose', title: '' },
  { key: 'name', title: t('Plan') },
  { key: 'accounts', title: t('Accounts'), right: true },
  { key: 'disk', title: t('Disk'), right: true, text: cell('disk', 'bytes') },
  { key: 'traffic', title: t('Traffic'), right: true, wide: true, text: cell('traffic', 'bytes') },
  { key: 'domains', title: t('Domains'), right: true, wide: true, text: cell('domains', 'count') },
  { key: 'mailboxes', title: t('Mailboxes'), right: true, wide: true, text: cell('mailboxes', 'count') },
  { key: 'databases', title: t('Databases'), right: true, wide: true, text: cell('databases', 'count') },
  { key: 'warnings', title: '' },
]

const compare = () => router.push({ path: '/plans/compare', query: { plan: [...chosen] } })
</script>

<template>
  <PageHead :title="$t('Plans')">
    <ElButton
      :disabled="chosen.size < 2 || chosen.size > most"
      :title="chosen.size < 2 ? $t('Choose 2 to 6 plans in the list') : undefined"
      @click="compare"
      >{{ chosen.size ? $t('Compare {n} plan | Compare {n} plans', { n: chosen.size }) : $t('Compare') }}</ElButton
    >
    <ElButton v-if="may('plans.change')" type="primary" @click="router.push('/plans/add')">{{
      $t('Add a plan')
    }}</ElButton>
  </PageHead>
  <div class="filters">
    <ElInput
      v-model="typed"
      type="search"
      clearable
      :placeholder="$t('Part of the name')"
      :aria-label="$t('Search plans')"
    />
    <ResellerPick
      v-if="hasResellers"
      v-model="whose"
      :own="$t(`The operator's own`)"
      :placeholder="$t(`Everybody's`)"
      :label="$t('Whose plans')"
    />
  </div>
  <ProblemNote :refusal="refusal" />
  <DataTable
    :id="refOf"
    :columns="columns"
    :rows="data?.plans"
    :to="(p) => `/plans/${refOf(p)}`"
    :caption="$t(`Plans, the operator's first`)"
  >
    <template #choose="{ row }"
      ><ElCheckbox
        :model-value="chosen.has(refOf(row))"
        :aria-label="$t('Compare {refOf}', { refOf: refOf(row) })"
        @change="(on) => choose(row, Boolean(on))"
    /></template>
    <template #name="{ row }"
      ><RouterLink :to="`/plans/${refOf(row)}`" class="name">{{ row.name }}</RouterLink
      >{{ ' '
      }}<span v-if="row.reseller" class="quiet">{{ $t('of {reseller}', { reseller: row.reseller }) }}</span></template
    >
    <template #accounts="{ row }"
      ><RouterLink v-if="row.accounts" :to="{ path: '/accounts', query: { plan: refOf(row) } }">{{
        number(row.accounts)
      }}</RouterLink
      ><span v-else class="quiet">0</span></template
    >
    <template #warnings="{ row }"
      ><span v-if="row.warnings.length" class="warn" :title="row.warnings.map((w) => w.message).join('\n')"
        >▲ {{ row.warnings.length }}</span
      ></template
    >
    <template #empty>
      <div class="empty">
        <h2>{{ search || whose ? $t('No plan fits') : $t('There are no plans yet') }}</h2>
        <p v-if="!search && !whose && may('plans.change')">
          <RouterLink to="/plans/add">{{ $t('Add the first one') }}</RouterLink>
          <span class="quiet">{{ $t('Every account is opened on a plan.') }}</span>
        </p>
      </div>
    </template>
  </DataTable>
  <PageTurner
    v-if="data?.plans.length"
    :count="$t('{n} plan | {n} plans', { n: data.plans.length })"
    :next="data.next"
  />
</template>

<style scoped>
.name {
  font-weight: 600;
  color: inherit;
  text-decoration: none;
}
.name:hover {
  text-decoration: underline;
}
</style>
