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
import { t } from '../../language'

type Template = Schemas['Template']
const router = useRouter()
const { data, refusal } = useLoad(() => ask(api.GET('/api/v1/templates')), { live: true })
const columns: Column<Template>[] = [
  { key: 'name', title: t('Template') },
  { key: 'about', title: t('What it is good for'), long: true, text: (one) => one.about ?? '' },
  { key: 'settings', title: t('Settings'), right: true, text: (one) => String(Object.keys(one.settings).length) },
  { key: 'sites', title: t('Sites'), right: true, text: (one) => String(one.sites) },
  { key: 'plans', title: t('Plans'), right: true, wide: true, text: (one) => String(one.plans) },
]
</script>

<template>
  <PageHead :title="$t('Templates')" :about="$t('Settings that sites follow where they have none of their own')">
    <ElButton v-if="may('templates.change')" type="primary" @click="router.push('/templates/add')">{{
      $t('Add a template')
    }}</ElButton>
  </PageHead>
  <ProblemNote :refusal="refusal" />
  <DataTable
    v-if="data?.templates.length"
    :id="refOf"
    :columns="columns"
    :rows="data.templates"
    :to="(one) => `/templates/${refOf(one)}`"
    :caption="$t('Templates')"
  >
    <template #name="{ row }"
      ><b>{{ refOf(row) }}</b
      >{{ ' ' }}<span v-if="!row.mine" class="quiet">{{ $t("the operator's") }}</span></template
    >
  </DataTable>
  <p v-else-if="data" class="empty">
    {{
      $t(
        'There is no template yet. A template holds what all sites of a kind have in common, such as headers or strict transport security; a plan gives it to new sites, and a change of it reaches all that follow it.',
      )
    }}
  </p>
</template>
