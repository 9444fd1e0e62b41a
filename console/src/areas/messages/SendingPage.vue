<script setup lang="ts">
import { api, ask, type Schemas } from '../../api/client'
import { useLoad } from '../../composables/useLoad'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import PageHead from '../../parts/PageHead.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import { t } from '../../language'

/** What became of what was sent to others within a day, by account and by where it went. */
const { data, refusal } = useLoad(() => ask(api.GET('/api/v1/sending')), { every: 60_000 })
type Account = Schemas['SendingAccount']
type Destination = Schemas['SendingDestination']
const counts = <T extends Account | Destination>(): Column<T>[] => [
  { key: 'delivered', title: t('Taken'), right: true, text: (r) => String(r.delivered) },
  { key: 'failed', title: t('Came back'), right: true, text: (r) => String(r.failed) },
  { key: 'waiting', title: t('Waiting'), right: true, text: (r) => String(r.waiting) },
]
const accounts: Column<Account>[] = [
  { key: 'account', title: t('Account') },
  { key: 'server', title: t('Server'), text: (a) => a.server, wide: true },
  ...counts<Account>(),
  { key: 'stopped', title: '' },
]
const destinations: Column<Destination>[] = [
  { key: 'domain', title: t('Destination'), text: (d) => d.domain },
  ...counts<Destination>(),
  { key: 'reply', title: t('Said last, where it was not taken'), long: true },
]
</script>

<template>
  <PageHead
    :title="$t('Sent to others')"
    :about="$t('Within a day. Who refuses much of what we send will soon refuse all of it.')"
  >
    <template #above
      ><RouterLink to="/messages">{{ $t('Messages') }}</RouterLink></template
    >
  </PageHead>
  <ProblemNote :refusal="refusal" />
  <h2>{{ $t('By destination') }}</h2>
  <DataTable :id="(d) => d.domain" :columns="destinations" :rows="data?.destinations" :caption="$t('By destination')">
    <template #reply="{ row }"
      ><span class="quiet">{{ row.reply }}</span></template
    >
    <template #empty
      ><p class="empty">{{ $t('Nothing was sent within a day') }}</p></template
    >
  </DataTable>
  <h2 class="second">{{ $t('By account') }}</h2>
  <DataTable :id="(a) => a.account" :columns="accounts" :rows="data?.accounts" :caption="$t('By account')">
    <template #account="{ row }"
      ><RouterLink :to="`/accounts/${row.account}/mail`">{{ row.account }}</RouterLink></template
    >
    <template #stopped="{ row }">
      <b v-if="row.stopped" class="bad">{{ $t('stopped') }}</b></template
    >
    <template #empty
      ><p class="empty">{{ $t('Nothing was sent within a day') }}</p></template
    >
  </DataTable>
</template>

<style scoped>
.second {
  margin-block-start: 1.8rem;
}
.bad {
  color: var(--signal);
}
</style>
