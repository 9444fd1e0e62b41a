<script setup lang="ts">
import { ElButton } from 'element-plus'
import { useRouter } from 'vue-router'
import { api, ask, type Schemas } from '../../api/client'
import { useLoad } from '../../composables/useLoad'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import PageHead from '../../parts/PageHead.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import { refOf } from '../plans/names'
import { may } from '../session/state'

type Template = Schemas['Template']
const router = useRouter()
const { data, refusal } = useLoad(() => ask(api.GET('/api/v1/templates')))
const columns: Column<Template>[] = [
  { key: 'name', title: 'Template' },
  { key: 'about', title: 'What it is good for', long: true, text: (t) => t.about ?? '' },
  { key: 'settings', title: 'Settings', right: true, text: (t) => String(Object.keys(t.settings).length) },
  { key: 'sites', title: 'Sites', right: true, text: (t) => String(t.sites) },
  { key: 'plans', title: 'Plans', right: true, wide: true, text: (t) => String(t.plans) },
]
</script>

<template>
  <PageHead title="Templates" about="Settings that sites follow where they have none of their own">
    <ElButton v-if="may('templates.change')" type="primary" @click="router.push('/templates/add')"
      >Add a template</ElButton
    >
  </PageHead>
  <ProblemNote :refusal="refusal" />
  <DataTable
    v-if="data?.templates.length"
    :id="refOf"
    :columns="columns"
    :rows="data.templates"
    :to="(t) => `/templates/${refOf(t)}`"
    caption="Templates"
  >
    <template #name="{ row }"
      ><b>{{ refOf(row) }}</b
      ><span v-if="!row.mine" class="quiet"> the operator's</span></template
    >
  </DataTable>
  <p v-else-if="data" class="empty">
    There is no template yet. A template holds what all sites of a kind have in common, such as headers or strict
    transport security; a plan gives it to new sites, and a change of it reaches all that follow it.
  </p>
</template>
