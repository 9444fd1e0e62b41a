<script setup lang="ts">
import { api, ask } from '../../api/client'
import { useLoad } from '../../composables/useLoad'
import EventTable from '../events/EventTable.vue'
import OperationTable from '../operations/OperationTable.vue'
import { may } from '../session/state'
import { useAccount } from './useAccount'

/** What was done with an account, by whom, and what became of it. */
const { name, changed } = useAccount()
const on = () => `${name.value} ${changed.value}`
const query = () => ({ account: name.value, limit: 15 })
const { data: operations } = useLoad(() => ask(api.GET('/api/v1/operations', { params: { query: query() } })), {
  on,
  live: true,
})
const { data: events } = useLoad(
  async () => (may('events.read') ? await ask(api.GET('/api/v1/events', { params: { query: query() } })) : undefined),
  { on, live: true },
)
</script>

<template>
  <section>
    <div class="titled">
      <h2>{{ $t('Operations') }}</h2>
      <RouterLink v-if="operations?.next" :to="{ path: '/operations', query: { account: name } }">{{
        $t('All operations')
      }}</RouterLink>
    </div>
    <OperationTable :operations="operations?.operations ?? undefined" :without="['subject']" />
  </section>
  <section v-if="events">
    <div class="titled">
      <h2>{{ $t('Events') }}</h2>
      <RouterLink v-if="events.next" :to="{ path: '/events', query: { account: name } }">{{
        $t('All events')
      }}</RouterLink>
    </div>
    <EventTable :events="events.events" />
  </section>
</template>
