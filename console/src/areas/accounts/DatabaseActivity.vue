<script setup lang="ts">
import { computed } from 'vue'
import { api, ask, made, type Schemas } from '../../api/client'
import { useAct } from '../../composables/useAct'
import { useLoad } from '../../composables/useLoad'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import { ago } from '../../words'
import { t } from '../../language'

/** What is being executed in a database, and what was slow within the last day. */
const props = defineProps<{ account: string; database: string }>()
const path = computed(() => ({ account: props.account, database: props.database }))
const { data, refusal, reload } = useLoad(
  async () => {
    const of = { params: { path: path.value } }
    const [now, before] = await Promise.all([
      ask(api.GET('/api/v1/accounts/{account}/databases/{database}/running', of)),
      ask(api.GET('/api/v1/accounts/{account}/databases/{database}/slow', of)),
    ])
    return { running: now.running ?? [], slow: before.slow ?? [] }
  },
  { on: path, every: 5_000 },
)
const { refusal: failed, act } = useAct()
const stop = (id: number) =>
  act(async () => {
    await made(
      api.DELETE('/api/v1/accounts/{account}/databases/{database}/running/{id}', {
        params: { path: { ...path.value, id } },
      }),
    )
    await reload()
  })
const seconds = (n: number) => t('{n} s', { n: n.toLocaleString(undefined, { maximumFractionDigits: 1 }) })

const runningColumns: Column<Schemas['RunningStatement']>[] = [
  { key: 'statement', title: t('Being executed'), long: true },
  { key: 'user', title: t('User'), wide: true, text: (r) => r.user },
  { key: 'seconds', title: t('For'), right: true, text: (r) => seconds(r.seconds) },
  { key: 'acts', title: '', right: true },
]
const slowColumns: Column<Schemas['SlowStatement']>[] = [
  { key: 'statement', title: t('Slow within the last day'), long: true },
  { key: 'user', title: t('User'), wide: true, text: (s) => s.user },
  { key: 'count', title: t('Times'), right: true, text: (s) => String(s.count) },
  { key: 'total', title: t('Together'), right: true, text: (s) => seconds(s.total) },
  { key: 'longest', title: t('Longest'), right: true, wide: true, text: (s) => seconds(s.longest) },
  { key: 'last_at', title: t('Last'), right: true, wide: true, text: (s) => ago(s.last_at) },
]
</script>

<template>
  <ProblemNote :refusal="failed ?? refusal" />
  <template v-if="data">
    <h3>{{ $t('What is being executed, and what is slow') }}</h3>
    <DataTable
      v-if="data.running.length"
      :id="(r) => r.id"
      :columns="runningColumns"
      :rows="data.running"
      :caption="$t('Being executed')"
    >
      <template #statement="{ row }"
        ><code>{{ row.statement }}</code></template
      >
      <template #acts="{ row }"
        ><button type="button" class="link" @click="stop(row.id)">{{ $t('Stop') }}</button></template
      >
    </DataTable>
    <p v-else class="quiet">{{ $t('Nothing is being executed.') }}</p>
    <DataTable
      v-if="data.slow.length"
      :id="(s) => s.user + s.statement"
      :columns="slowColumns"
      :rows="data.slow"
      :caption="$t('Slow within the last day')"
    >
      <template #statement="{ row }"
        ><code>{{ row.statement }}</code></template
      >
    </DataTable>
    <p v-else class="quiet">{{ $t('Nothing took a second or longer within the last day.') }}</p>
  </template>
</template>
