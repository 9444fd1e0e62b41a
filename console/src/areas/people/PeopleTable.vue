<script setup lang="ts">
import { computed, ref } from 'vue'
import { ElButton } from 'element-plus'
import { api, ask, type Schemas } from '../../api/client'
import { useFilters } from '../../composables/useFilters'
import { useLoad } from '../../composables/useLoad'
import { ago } from '../../words'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import PageTurner from '../../parts/PageTurner.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import { may } from '../session/state'
import AddPerson, { type Origin } from './AddPerson.vue'
import { t } from '../../language'
import { named } from '../../codes'

/** Those who can sign in for somebody, and a way to add one. */
const props = defineProps<{
  query: { search?: string; role?: 'operator' | 'reseller' | 'customer'; customer?: string; reseller?: string }
  add: Origin
  title?: string
}>()

type Person = Schemas['Person']
const { cursor } = useFilters('cursor')
const query = computed(() => ({ ...props.query, cursor: cursor.value || undefined, limit: 50 }))
const { data, refusal, reload } = useLoad(() => ask(api.GET('/api/v1/people', { params: { query: query.value } })), {
  on: query,
  live: true,
})
const adding = ref(false)
/** Among people of all kinds, what they are comes first; of one customer or reseller that is plain. */
const mixed = computed(() => !props.query.customer && !props.query.reseller)
const columns = computed<Column<Person>[]>(() => [
  { key: 'name', title: t('Sign-in name'), long: true },
  ...(mixed.value
    ? [
        { key: 'role', title: t('Role'), text: (p: Person) => named(p.role) },
        { key: 'of', title: t('Of'), text: (p: Person) => p.customer || p.reseller || '', wide: true, long: true },
      ]
    : []),
  { key: 'can', title: t('May') },
  {
    key: 'factor',
    title: t('Second factor'),
    wide: true,
    text: (p) => (p.second_factor ? `● ${t('on')}` : `○ ${t('off')}`),
  },
  { key: 'seen', title: t('Last seen'), wide: true, text: (p) => ago(p.seen_at) },
])
const rights = (p: Person) => (p.read_only ? t('look only') : p.duty !== 'all' ? p.duty : 'everything')
</script>

<template>
  <div class="head">
    <h2>{{ title }}</h2>
    <ElButton v-if="may('people.change')" size="small" @click="adding = true">{{ $t('Add a person') }}</ElButton>
  </div>
  <ProblemNote :refusal="refusal" />
  <DataTable
    :id="(p) => p.name"
    :columns="columns"
    :rows="data?.people"
    :to="(p) => `/people/${encodeURIComponent(p.name)}`"
    :caption="title ?? $t('People')"
  >
    <template #name="{ row }"
      ><RouterLink :to="`/people/${encodeURIComponent(row.name)}`">{{ row.name }}</RouterLink></template
    >
    <template #can="{ row }"
      >{{ rights(row)
      }}<span v-if="!row.password" class="warn" :title="$t('A link is needed before the first sign-in')">
        {{ $t('▲ no password') }}</span
      ></template
    >
    <template #empty
      ><p class="quiet">{{ $t('Nobody can sign in.') }}</p></template
    >
  </DataTable>
  <PageTurner
    v-if="data && (data.next || cursor)"
    :count="$t('{n} person | {n} people', { n: data.people.length })"
    :next="data.next"
  />
  <AddPerson v-model="adding" :origin="add" @added="reload" />
</template>

<style scoped>
.head {
  display: flex;
  justify-content: space-between;
  align-items: baseline;
  margin-bottom: 0.4rem;
}
h2 {
  margin: 0;
}
</style>
