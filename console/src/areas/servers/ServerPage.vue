<script setup lang="ts">
import { computed, ref, watchEffect } from 'vue'
import { ElButton, ElSwitch } from 'element-plus'
import { useRouter } from 'vue-router'
import { api, ask, made, type Schemas } from '../../api/client'
import { useAct } from '../../composables/useAct'
import { useLoad } from '../../composables/useLoad'
import { useOperation } from '../../composables/useOperation'
import { ago, size } from '../../words'
import { limitsMet } from './hungry'
import ChangeList from '../../parts/ChangeList.vue'
import DataTable from '../../parts/DataTable.vue'
import FactList from '../../parts/FactList.vue'
import FactStrip from '../../parts/FactStrip.vue'
import FillBar from '../../parts/FillBar.vue'
import NotHere from '../../parts/NotHere.vue'
import PageHead from '../../parts/PageHead.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import StateMark from '../../parts/StateMark.vue'
import StripFact from '../../parts/StripFact.vue'
import StepList from '../../parts/StepList.vue'
import OperationTable from '../operations/OperationTable.vue'
import { health } from './health'
import { confirmed } from '../../parts/confirm'
import { t } from '../../language'

const props = defineProps<{ server: string }>()
const router = useRouter()
const path = computed(() => ({ server: props.server }))

const { data, refusal, reload } = useLoad(
  () => ask(api.GET('/api/v1/servers/{server}', { params: { path: path.value } })),
  { on: path, live: true, every: 5_000 },
)
const { data: drift, reload: reloadDrift } = useLoad(
  () => ask(api.GET('/api/v1/servers/{server}/drift', { params: { path: path.value } })),
  { on: path, live: true, every: 10_000 },
)
const sort = ref<'cpu' | 'memory' | 'processes'>('cpu')
const { data: hungriest } = useLoad(
  () =>
    ask(
      api.GET('/api/v1/servers/{server}/hungriest', {
        params: { path: path.value, query: { sort: sort.value, limit: 8 } },
      }),
    ),
  { on: () => props.server + sort.value, every: 10_000 },
)
const { data: operations, reload: reloadOperations } = useLoad(
  () => ask(api.GET('/api/v1/operations', { params: { query: { server: props.server, limit: 8 } } })),
  { on: path, live: true },
)

watchEffect(() => {
  document.title = `${props.server} · Victualler`
})

const started = ref<number>()
const { operation } = useOperation(started, () => {
  void reload()
  void reloadDrift()
  void reloadOperations()
})

const { refusal: acting, act } = useAct()
const sweep = () =>
  act(async () => {
    started.value = (await made(api.POST('/api/v1/servers/{server}/sweep', { params: { path: path.value } }))).operation
  })
const repair = () =>
  act(async () => {
    started.value = (
      await made(api.POST('/api/v1/servers/{server}/repair', { params: { path: path.value } }))
    ).operation
  })
const set = (body: Schemas['ServerChange']) =>
  act(async () => {
    const header = { 'If-Match': `"${data.value?.version}"` }
    data.value = await made(api.PATCH('/api/v1/servers/{server}', { params: { path: path.value, header }, body }))
  })

const remove = () =>
  act(async () => {
    if (!(await confirmed(t('Remove {server} from the installation?', { server: props.server }), t('Remove')))) return
    await ask(api.DELETE('/api/v1/servers/{server}', { params: { path: path.value } }))
    await router.push('/servers')
  })

const facts = computed<[string, string][]>(() => {
  const s = data.value
  if (!s) return []
  return [
    [t('Roles'), s.roles?.join(', ') ?? ''],
    ...(s.host_name ? ([[t('Name among mail servers'), s.host_name]] as [string, string][]) : []),
    [
      t('Load'),
      s.health
        ? t('{toFixed} on {processors} processors', {
            toFixed: s.health.load.toFixed(2),
            processors: s.health.processors,
          })
        : '–',
    ],
    [
      t('Disk limits'),
      s.health?.quota === 'btrfs' || s.health?.quota === 'project'
        ? t('kept by the file system ({what})', { what: s.health.quota === 'btrfs' ? 'btrfs' : t('project quota') })
        : s.health
          ? t('measured only: the file system cannot keep them')
          : '–',
    ],
    [t('Control groups'), s.health?.sandboxes.layout ?? '–'],
    ['PHP', s.health?.sandboxes.php.join(', ') || '–'],
    [t('Agent'), s.health?.agent_version ?? '–'],
    [t('Last answer'), ago(s.seen_at)],
    [t('Last sweep'), ago(s.swept_at)],
  ]
})
</script>

<template>
  <NotHere v-if="!data && refusal" :refusal="refusal" to="/servers" :label="$t('All servers')" />
  <template v-if="data">
    <PageHead :title="data.label" :about="data.address">
      <template #above
        ><RouterLink to="/servers">{{ $t('Servers') }}</RouterLink></template
      >
      <ElButton v-if="data.accounts === 0" @click="remove">{{ $t('Remove') }}</ElButton>
      <ElButton :disabled="data.state !== 'joined'" @click="sweep">{{ $t('Sweep now') }}</ElButton>
      <ElButton :type="drift?.drifts?.length ? 'primary' : ''" :disabled="data.state !== 'joined'" @click="repair">{{
        $t('Repair')
      }}</ElButton>
    </PageHead>
    <ul v-if="data.health?.sandboxes.missing.length" class="notes" :aria-label="$t('What is not kept')">
      <li v-for="m in data.health.sandboxes.missing" :key="m" class="warn">
        {{ $t('▲ Not kept on this server: {m}', { m }) }}
      </li>
    </ul>
    <FactStrip>
      <StripFact :name="$t('Health')"><StateMark :state="health(data)" /></StripFact>
      <StripFact :name="$t('Accounts')"
        ><RouterLink :to="{ path: '/accounts', query: { server: data.label } }">{{
          data.accounts
        }}</RouterLink></StripFact
      >
      <StripFact v-if="data.health" :name="$t('Sandboxes running')">{{ data.health.sandboxes.running }}</StripFact>
      <StripFact :name="$t('Public addresses')"
        ><code>{{ data.addresses.join(' ') }}</code></StripFact
      >
      <StripFact :name="$t('Takes new accounts')" for="takes">
        <ElSwitch
          id="takes"
          :model-value="data.open"
          inline-prompt
          :active-text="$t('yes')"
          :inactive-text="$t('no')"
          @change="set({ open: Boolean($event) })"
        />
      </StripFact>
      <StripFact v-if="data.roles?.includes('mail')" :name="$t('Spam filter')" for="filter">
        <ElSwitch
          id="filter"
          :model-value="data.spam_filter"
          inline-prompt
          :active-text="$t('yes')"
          :inactive-text="$t('no')"
          @change="set({ spam_filter: Boolean($event) })"
        />
      </StripFact>
      <template v-if="data.health">
        <StripFact :name="$t('Disk used')"
          ><FillBar
            :used="data.health.disk_total - data.health.disk_free"
            :of="data.health.disk_total"
            unit="bytes"
            :what="$t('Disk of the homes')"
        /></StripFact>
        <StripFact :name="$t('Memory used')"
          ><FillBar
            :used="data.health.memory_total - data.health.memory_free"
            :of="data.health.memory_total"
            unit="bytes"
            :what="$t('{memory_free} free', { memory_free: size(data.health.memory_free) })"
        /></StripFact>
      </template>
    </FactStrip>
    <ProblemNote :refusal="acting" />
    <section v-if="operation" :aria-label="$t('Steps')">
      <h2>{{ operation.title }}</h2>
      <StepList :operation="operation" />
    </section>
    <section v-if="hungriest?.accounts.length">
      <h2>
        {{ $t('Run most') }}
        <span class="quiet"
          >{{ $t('at the last sweep, by') }}
          <button
            v-for="by in ['cpu', 'memory', 'processes'] as const"
            :key="by"
            type="button"
            class="link by"
            :aria-pressed="sort === by"
            @click="sort = by"
          >
            {{ by === 'cpu' ? $t('processor') : by }}
          </button></span
        >
      </h2>
      <DataTable
        :id="(a) => a.id"
        :columns="[
          { key: 'account', title: $t('Account'), long: true },
          { key: 'cpu', title: $t('Processor'), right: true, text: (a) => `${a.cpu}%` },
          { key: 'memory', title: $t('Memory'), right: true, text: (a) => size(a.memory) },
          { key: 'processes', title: $t('Processes'), right: true, wide: true, text: (a) => String(a.processes) },
          { key: 'met', title: $t('Limits met today'), long: true, wide: true, text: (a) => limitsMet(a.met) },
        ]"
        :rows="hungriest.accounts"
        :to="(a) => `/accounts/${a.id}`"
        :caption="$t('Accounts that run most')"
      >
        <template #account="{ row }"
          ><RouterLink :to="`/accounts/${row.id}`"
            ><b>{{ row.main_domain }}</b></RouterLink
          ><span class="quiet">&nbsp; {{ row.sign_in_name }}</span></template
        >
      </DataTable>
    </section>
    <section>
      <h2>
        {{ $t('Drift') }}
        <span class="quiet">{{
          $t('what the last sweep, {swept}, found different', { swept: ago(drift?.swept_at) })
        }}</span>
      </h2>
      <ChangeList v-if="drift?.drifts?.length" :changes="drift.drifts" open />
      <p v-else class="quiet">
        {{ drift?.swept_at ? $t('Nothing: the server holds what it should.') : $t('It has not been swept yet.') }}
      </p>
    </section>
    <div class="halves">
      <section>
        <h2>{{ $t('Programs') }}</h2>
        <DataTable
          :id="(p) => p.name"
          :columns="[
            { key: 'name', title: $t('Program'), text: (p) => p.name },
            { key: 'version', title: $t('Version'), text: (p) => p.version },
            { key: 'running', title: $t('State') },
            { key: 'reloads', title: $t('Reloads'), right: true, text: (p) => String(p.reloads) },
          ]"
          :rows="data.health?.programs ?? []"
          :caption="$t('Programs on the server')"
        >
          <template #running="{ row }"><StateMark :state="row.running ? 'up' : 'down'" /></template>
        </DataTable>
        <FactList class="facts" :facts="facts" />
      </section>
      <section v-if="operations?.operations?.length">
        <h2>{{ $t('Operations') }}</h2>
        <OperationTable :operations="operations.operations" :without="['id', 'actor']" />
      </section>
    </div>
  </template>
</template>

<style scoped>
.by {
  margin-inline-end: 0.5rem;
}
.by[aria-pressed='true'] {
  color: var(--ink);
  text-decoration: none;
}
.facts {
  margin-top: 1rem;
}
</style>
