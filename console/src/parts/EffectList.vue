<script setup lang="ts">
import type { Schemas } from '../api/client'

/** What a change means, account by account. */
defineProps<{ effects: Schemas['Effect'][] }>()
</script>

<template>
  <ul class="effects">
    <li v-for="e in effects" :key="e.name + e.account">
      <RouterLink :to="`/accounts/${e.account}`">{{ e.name }}</RouterLink> <span class="quiet">{{ e.account }}</span>
      <p v-if="e.over.length" class="over">{{ $t('▲ over: {over}', { over: e.over.join(', ') }) }}</p>
      <p v-if="e.losses.length">{{ $t('loses {losses}', { losses: e.losses.join(', ') }) }}</p>
      <p v-if="e.gains.length">{{ $t('gains {gains}', { gains: e.gains.join(', ') }) }}</p>
      <p v-for="c in e.changes" :key="c">{{ c }}</p>
      <p v-if="e.unchanged" class="quiet">{{ e.unchanged }}</p>
      <p
        v-if="!e.over.length && !e.losses.length && !e.gains.length && !e.unchanged && !e.changes?.length"
        class="quiet"
      >
        {{ $t('nothing changes for it') }}
      </p>
    </li>
  </ul>
</template>

<style scoped>
.effects {
  margin: 0.5rem 0;
  padding: 0;
  list-style: none;
}
li {
  padding: 0.35rem 0;
  border-top: 1px solid var(--line-2);
}
p {
  margin: 0.05rem 0 0 1rem;
}
.over {
  color: var(--signal);
  font-weight: 550;
}
</style>
