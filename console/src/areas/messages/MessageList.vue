<script setup lang="ts">
import { computed } from 'vue'
import { ElInput, ElOption, ElSelect } from 'element-plus'
import { api, ask } from '../../api/client'
import { named } from '../../codes'
import { useFilters } from '../../composables/useFilters'
import { useLoad } from '../../composables/useLoad'
import { useTyped } from '../../composables/useTyped'
import PageHead from '../../parts/PageHead.vue'
import PageTurner from '../../parts/PageTurner.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import { may } from '../session/state'
import MessageTable from './MessageTable.vue'

/** Where is my message? */
const { account, sender, recipient, outcome, cursor, clearFilters } = useFilters(
  'account',
  'sender',
  'recipient',
  'outcome',
  'cursor',
)
const from = useTyped(sender)
const to = useTyped(recipient)
const outcomes = ['delivered', 'forwarded', 'kept', 'waiting', 'failed', 'refused'] as const
const query = computed(() => ({
  account: account.value || undefined,
  sender: sender.value.trim() || undefined,
  recipient: recipient.value.trim() || undefined,
  outcome: outcomes.find((o) => o === outcome.value),
  cursor: cursor.value || undefined,
  limit: 50,
}))
const { data, refusal } = useLoad(() => ask(api.GET('/api/v1/messages', { params: { query: query.value } })), {
  on: query,
  every: 10_000,
})
const narrowed = computed(() => sender.value || recipient.value || outcome.value)
</script>

<template>
  <PageHead :title="$t('Messages')" :about="$t('What became of them, newest first; it is known for 30 days')">
    <RouterLink :to="{ path: '/messages/waiting', query: account ? { account } : {} }">{{
      $t('Messages that wait')
    }}</RouterLink><template v-if="may('servers.read')">
      · <RouterLink to="/messages/sending">{{ $t('Sent to others') }}</RouterLink></template
    >
  </PageHead>
  <div class="filters">
    <ElInput v-model="from" type="search" clearable :placeholder="$t('From an address')" :aria-label="$t('From')" />
    <ElInput v-model="to" type="search" clearable :placeholder="$t('To an address')" :aria-label="$t('To')" />
    <ElSelect v-model="outcome" clearable :placeholder="$t('Any outcome')" :aria-label="$t('Outcome')"
      ><ElOption v-for="o in outcomes" :key="o" :value="o" :label="named(o)"
    /></ElSelect>
  </div>
  <p v-if="account" class="quiet">
    {{ $t('Only what concerns {account}.', { account }) }}
    <button type="button" class="link" @click="clearFilters">{{ $t('Everything') }}</button>
  </p>
  <ProblemNote :refusal="refusal" />
  <MessageTable :messages="data?.messages">
    <template #empty
      ><div class="empty">
        <h2>{{ narrowed ? $t('No message fits') : $t('No message yet') }}</h2>
        <p v-if="narrowed">
          {{ $t('Addresses are looked for as a whole, such as the one that a message was sent to.') }}
        </p>
      </div></template
    >
  </MessageTable>
  <PageTurner
    v-if="data?.messages.length"
    :count="$t('{n} message | {n} messages', { n: data.messages.length })"
    :next="data.next"
  />
</template>

<style scoped>
.filters {
  grid-template-columns: minmax(10rem, 20rem) minmax(10rem, 20rem) minmax(7rem, 11rem);
}
@media (max-width: 760px) {
  .filters {
    grid-template-columns: 1fr;
  }
}
</style>
