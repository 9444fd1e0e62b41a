<script setup lang="ts">
import { computed } from 'vue'
import { api, ask, made, type Schemas } from '../../api/client'
import { useAct } from '../../composables/useAct'
import { useFilters } from '../../composables/useFilters'
import { useLoad } from '../../composables/useLoad'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import PageHead from '../../parts/PageHead.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import { confirmed } from '../../parts/confirm'
import { ago } from '../../words'
import { may } from '../session/state'
import { t } from '../../language'

/** The messages that wait on mail servers, and why. */
const { account, clearFilters } = useFilters('account')
const { data, refusal, reload } = useLoad(
  () => ask(api.GET('/api/v1/queue', { params: { query: { account: account.value || undefined } } })),
  { on: account, every: 10_000 },
)
const { refusal: acting, act } = useAct()
type Queued = Schemas['QueuedMessage']
type Do = Schemas['QueueChange']['do']
const change = (m: Queued, what: Do) =>
  act(async () => {
    if (what === 'remove' && !(await confirmed(t('Remove this message? Its sender is not told.'), t('Remove')))) return
    await made(api.POST('/api/v1/queue', { body: { server: m.server, messages: [m.queue], do: what } }))
    await reload()
  })
const acts = computed<{ what: Do; label: string; held?: boolean }[]>(() => [
  { what: 'retry', label: t('Try now'), held: false },
  { what: 'hold', label: t('Hold'), held: false },
  { what: 'release', label: t('Release'), held: true },
  { what: 'remove', label: t('Remove') },
])
const reason = (m: Queued) => m.recipients.find((r) => r.reason)?.reason
const columns: Column<Queued>[] = [
  { key: 'came', title: t('Came'), text: (m) => ago(m.came_at) },
  { key: 'sender', title: t('From'), long: true, text: (m) => m.sender || t('(failure notice)') },
  { key: 'recipients', title: t('To'), long: true },
  { key: 'server', title: t('Server'), text: (m) => m.server, wide: true },
  { key: 'acts', title: '', right: true },
]
</script>

<template>
  <PageHead :title="$t('Messages that wait')" :about="$t('As the servers have them at this moment, oldest first')">
    <template #above
      ><RouterLink to="/messages">{{ $t('Messages') }}</RouterLink></template
    >
  </PageHead>
  <p v-if="account" class="quiet">
    {{ $t('Only what concerns {account}.', { account }) }}
    <button type="button" class="link" @click="clearFilters">{{ $t('Everything') }}</button>
  </p>
  <ProblemNote :refusal="refusal" />
  <ProblemNote :refusal="acting" />
  <p v-for="server in data?.silent" :key="server">
    {{ $t('{server} does not answer; its messages are missing here.', { server }) }}
  </p>
  <DataTable
    :id="(m) => m.server + m.queue"
    :columns="columns"
    :rows="data?.messages"
    :caption="$t('Messages that wait')"
  >
    <template #recipients="{ row }"
      >{{ row.recipients.map((r) => r.address).join(', ') }}
      <div v-if="row.held" class="held">{{ $t('held until somebody releases it') }}</div>
      <div v-if="reason(row)" class="quiet why">{{ reason(row) }}</div></template
    >
    <template #acts="{ row }"
      ><template v-if="may('queue.change')"
        ><template v-for="a in acts" :key="a.what"
          ><button
            v-if="a.held === undefined || a.held === row.held"
            type="button"
            class="link"
            :aria-label="`${a.label} ${row.queue}`"
            @click="change(row, a.what)"
          >
            {{ a.label }}</button
          >{{ ' ' }}</template
        ></template
      ></template
    >
    <template #empty
      ><div class="empty">
        <h2>{{ $t('No message waits') }}</h2>
        <p>{{ $t('What cannot be delivered at once waits here, and is tried again for five days.') }}</p>
      </div></template
    >
  </DataTable>
</template>

<style scoped>
.why {
  max-width: 46rem;
  overflow-wrap: anywhere;
}
.held {
  color: var(--signal);
  font-weight: 600;
}
</style>
