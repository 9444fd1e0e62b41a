<script setup lang="ts">
import { computed, ref, shallowRef, watchEffect } from 'vue'
import { ElButton, ElSwitch } from 'element-plus'
import { api, ask, Refusal } from '../../api/client'
import { useLoad } from '../../composables/useLoad'
import { useOperation } from '../../composables/useOperation'
import { ago, size } from '../../words'
import ChangeList from '../../parts/ChangeList.vue'
import DataTable from '../../parts/DataTable.vue'
import FactList from '../../parts/FactList.vue'
import FillBar from '../../parts/FillBar.vue'
import PageHead from '../../parts/PageHead.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import StateMark from '../../parts/StateMark.vue'
import StepList from '../../parts/StepList.vue'
import OperationTable from '../operations/OperationTable.vue'
import { health } from './health'

const props = defineProps<{ server: string }>()
const path = computed(() => ({ server: props.server }))

const { data, refusal, reload } = useLoad(() => ask(api.GET('/api/v1/servers/{server}', { params: { path: path.value } })), { on: path, every: 5_000 })
const { data: drift, reload: reloadDrift } = useLoad(() => ask(api.GET('/api/v1/servers/{server}/drift', { params: { path: path.value } })), { on: path, every: 10_000 })
const { data: operations, reload: reloadOperations } = useLoad(
  () => ask(api.GET('/api/v1/operations', { params: { query: { server: props.server, limit: 8 } } })), { on: path })

watchEffect(() => {
  document.title = `${props.server} · Victualler`
})

const started = ref<number>()
const acting = shallowRef<Refusal>()
const { operation } = useOperation(started, () => {
  void reload()
  void reloadDrift()
  void reloadOperations()
})

async function guarded(act: () => Promise<void>) {
  acting.value = undefined
  try {
    await act()
  } catch (err) {
    if (!(err instanceof Refusal)) throw err
    acting.value = err
  }
}
const sweep = () => guarded(async () => void (started.value = (await ask(api.POST('/api/v1/servers/{server}/sweep', { params: { path: path.value } }))).operation))
const repair = () => guarded(async () => void (started.value = (await ask(api.POST('/api/v1/servers/{server}/repair', { params: { path: path.value } }))).operation))
const setOpen = (open: boolean) =>
  guarded(async () => {
    const header = { 'If-Match': `"${data.value?.version}"` }
    data.value = await ask(api.PATCH('/api/v1/servers/{server}', { params: { path: path.value, header }, body: { open } }))
  })

const facts = computed<[string, string][]>(() => {
  const s = data.value
  if (!s) return []
  return [
    ['Roles', s.roles?.join(', ') ?? ''],
    ['Load', s.health ? `${s.health.load.toFixed(2)} on ${s.health.processors} processors` : '–'],
    ['Disk limits', s.health?.quota === 'btrfs' ? 'kept by the file system (btrfs)' : s.health ? 'measured only: the file system cannot keep them' : '–'],
    ['Agent', s.health?.agent_version ?? '–'],
    ['Last answer', ago(s.seen_at)],
    ['Last sweep', ago(s.swept_at)],
  ]
})
</script>

<template>
  <ProblemNote v-if="!data" :refusal="refusal"><p><RouterLink to="/servers">All servers</RouterLink></p></ProblemNote>
  <template v-if="data">
    <PageHead :title="data.label" :about="data.address">
      <template #above><RouterLink to="/servers">Servers</RouterLink></template>
      <ElButton :disabled="data.state !== 'joined'" @click="sweep">Sweep now</ElButton>
      <ElButton :type="drift?.drifts?.length ? 'primary' : ''" :disabled="data.state !== 'joined'" @click="repair">Repair</ElButton>
    </PageHead>
    <div class="strip">
      <div><span class="quiet">Health</span><StateMark :state="health(data)" /></div>
      <div><span class="quiet">Accounts</span><RouterLink :to="{ path: '/accounts', query: { server: data.label } }">{{ data.accounts }}</RouterLink></div>
      <div>
        <label class="quiet" for="takes">Takes new accounts</label>
        <ElSwitch id="takes" :model-value="data.open" inline-prompt active-text="yes" inactive-text="no" @change="setOpen(Boolean($event))" />
      </div>
      <template v-if="data.health">
        <div><span class="quiet">Disk used</span><FillBar :used="data.health.disk_total - data.health.disk_free" :of="data.health.disk_total" unit="bytes" what="Disk of the homes" /></div>
        <div><span class="quiet">Memory used</span><FillBar :used="data.health.memory_total - data.health.memory_free" :of="data.health.memory_total" unit="bytes" :what="`${size(data.health.memory_free)} free`" /></div>
      </template>
    </div>
    <ProblemNote :refusal="acting" />
    <section v-if="operation" aria-label="Steps">
      <h2>{{ operation.kind }}</h2>
      <StepList :operation="operation" />
    </section>
    <section>
      <h2>Drift <span class="quiet">what the last sweep, {{ ago(drift?.swept_at) }}, found different</span></h2>
      <ChangeList v-if="drift?.drifts?.length" :changes="drift.drifts" open />
      <p v-else class="quiet">{{ drift?.swept_at ? 'Nothing: the server holds what it should.' : 'It has not been swept yet.' }}</p>
    </section>
    <div class="two">
      <section>
        <h2>Programs</h2>
        <DataTable
          :columns="[{ key: 'name', title: 'Program', text: (p) => p.name }, { key: 'version', title: 'Version', text: (p) => p.version }, { key: 'running', title: 'State' }, { key: 'reloads', title: 'Reloads', right: true, text: (p) => String(p.reloads) }]"
          :rows="data.health?.programs ?? []"
          :id="(p) => p.name"
          caption="Programs on the server"
        >
          <template #running="{ row }"><StateMark :state="row.running ? 'up' : 'down'" /></template>
        </DataTable>
        <FactList class="facts" :facts="facts" />
      </section>
      <section v-if="operations?.operations?.length">
        <h2>Operations</h2>
        <OperationTable :operations="operations.operations" compact />
      </section>
    </div>
  </template>
</template>

<style scoped>
.strip {
  display: flex;
  flex-wrap: wrap;
  gap: 0.7rem 2.4rem;
  margin-bottom: 1.2rem;
}
.strip > div {
  display: grid;
  gap: 0.1rem;
  align-content: start;
  justify-items: start;
}
.two {
  display: grid;
  grid-template-columns: minmax(0, 2fr) minmax(0, 3fr);
  gap: 0 2rem;
  align-items: start;
}
section {
  margin-bottom: 1.5rem;
}
h2 .quiet {
  font: 400 0.9rem var(--sans);
}
.facts {
  margin-top: 1rem;
}
@media (max-width: 900px) {
  .two {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
