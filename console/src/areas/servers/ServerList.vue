<script setup lang="ts">
import { ref } from 'vue'
import { ElButton } from 'element-plus'
import { api, ask, type Schemas } from '../../api/client'
import { useLoad } from '../../composables/useLoad'
import { ago, size } from '../../words'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import FillBar from '../../parts/FillBar.vue'
import PageHead from '../../parts/PageHead.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import StateMark from '../../parts/StateMark.vue'
import JoinServer from './JoinServer.vue'
import { health } from './health'
import { t } from '../../language'

type Server = Schemas['Server']

const { data, refusal, reload } = useLoad(() => ask(api.GET('/api/v1/servers')), { live: true, every: 5_000 })
const joining = ref(false)

const columns: Column<Server>[] = [
  { key: 'label', title: t('Server') },
  { key: 'health', title: t('Health') },
  { key: 'open', title: t('New accounts'), text: (s) => (s.open ? t('yes') : t('no')) },
  { key: 'accounts', title: t('Accounts'), right: true, text: (s) => String(s.accounts) },
  { key: 'disk', title: t('Disk used'), wide: true },
  { key: 'memory', title: t('Memory used'), wide: true },
  {
    key: 'load',
    title: t('Load'),
    right: true,
    wide: true,
    text: (s) => (s.health ? `${s.health.load.toFixed(2)} / ${s.health.processors}` : '–'),
  },
  { key: 'drift', title: t('Drift'), right: true, text: (s) => (s.drifts ? `▲ ${s.drifts}` : '0') },
  { key: 'swept', title: t('Last sweep'), wide: true, text: (s) => ago(s.swept_at) },
]
const used = (total?: number, free?: number) => (total === undefined || free === undefined ? undefined : total - free)
</script>

<template>
  <PageHead :title="$t('Servers')" :about="$t('How they are, and how full')">
    <ElButton type="primary" @click="joining = true">{{ $t('Add a server') }}</ElButton>
  </PageHead>
  <ProblemNote :refusal="refusal" />
  <DataTable
    :id="(s) => s.label"
    :columns="columns"
    :rows="data?.servers ?? undefined"
    :to="(s) => `/servers/${s.label}`"
    :caption="$t('Servers')"
  >
    <template #label="{ row }"
      ><RouterLink :to="`/servers/${row.label}`"
        ><b>{{ row.label }}</b></RouterLink
      >
      {{ ' ' }}
      <span class="quiet">{{ row.roles?.join(', ') }}</span></template
    >
    <template #health="{ row }"><StateMark :state="health(row)" /></template>
    <template #disk="{ row }"
      ><FillBar
        :used="used(row.health?.disk_total, row.health?.disk_free)"
        :of="row.health?.disk_total ?? 0"
        unit="bytes"
        :what="$t('Disk of the homes')"
    /></template>
    <template #memory="{ row }"
      ><FillBar
        :used="used(row.health?.memory_total, row.health?.memory_free)"
        :of="row.health?.memory_total ?? 0"
        unit="bytes"
        :what="$t('Memory, {memory_free} free', { memory_free: size(row.health?.memory_free) })"
    /></template>
    <template #empty>
      <div class="empty">
        <h2>{{ $t('There are no servers yet') }}</h2>
        <p>{{ $t('Accounts live on servers. Add one: you get a secret for its agent, and it joins.') }}</p>
      </div>
    </template>
  </DataTable>
  <JoinServer v-model="joining" @joined="reload" />
</template>
