<script setup lang="ts">
import { computed, ref } from 'vue'
import { ElButton } from 'element-plus'
import { api, ask, type Schemas } from '../../api/client'
import { useLoad } from '../../composables/useLoad'
import { ago } from '../../words'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import { may } from '../session/state'
import AddPerson, { type Origin } from './AddPerson.vue'

/** Those who can sign in for somebody, and a way to add one. */
const props = defineProps<{ query: { search?: string; role?: 'operator' | 'reseller' | 'customer'; customer?: string; reseller?: string }; add: Origin; title?: string }>()

type Person = Schemas['Person']
const query = computed(() => ({ ...props.query, limit: 200 }))
const { data, refusal, reload } = useLoad(() => ask(api.GET('/api/v1/people', { params: { query: query.value } })), { on: query })
const adding = ref(false)
const columns: Column<Person>[] = [
  { key: 'name', title: 'Sign-in name', long: true },
  { key: 'can', title: 'May' },
  { key: 'factor', title: 'Second factor', wide: true, text: (p) => (p.second_factor ? '● on' : '○ off') },
  { key: 'seen', title: 'Last seen', wide: true, text: (p) => ago(p.seen_at) },
]
const rights = (p: Person) => (p.look_only ? 'look only' : p.duty !== 'all' ? p.duty : 'everything')
</script>

<template>
  <div class="head">
    <h2>{{ title }}</h2>
    <ElButton v-if="may('people.change')" size="small" @click="adding = true">Add one</ElButton>
  </div>
  <ProblemNote :refusal="refusal" />
  <DataTable :columns="columns" :rows="data?.people" :id="(p) => p.name" :to="(p) => `/people/${encodeURIComponent(p.name)}`" :caption="title ?? 'People'">
    <template #name="{ row }"><RouterLink :to="`/people/${encodeURIComponent(row.name)}`">{{ row.name }}</RouterLink> <span v-if="row.customer && !query.customer" class="quiet">{{ row.customer }}</span></template>
    <template #can="{ row }">{{ rights(row) }}<span v-if="!row.password" class="warn" title="A link is needed before the first sign-in"> ▲ no password yet</span></template>
    <template #empty><p class="quiet">Nobody can.</p></template>
  </DataTable>
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
