<script setup lang="ts">
import type { Schemas } from '../api/client'

/** What becomes of a message to an address, as a tree. */
defineProps<{ path: Schemas['MailPath'] }>()
/** Hops at which a message is stuck. */
const stuck = (hop: string) => hop === 'nowhere' || hop === 'loop'
</script>

<template>
  <div class="hop" :class="{ stuck: stuck(path.hop), end: !path.next.length }">
    <code>{{ path.unicode }}</code> <span class="says">{{ path.says }}</span>
  </div>
  <ul v-if="path.next.length">
    <li v-for="next in path.next" :key="next.address"><MailPath :path="next" /></li>
  </ul>
</template>

<style scoped>
.hop {
  padding: 0.15rem 0;
  overflow-wrap: anywhere;
}
.says {
  color: var(--ink-2);
}
.stuck .says {
  color: var(--signal);
}
ul {
  list-style: none;
  margin: 0;
  padding: 0;
}
li {
  margin-inline-start: 0.45rem;
  padding-inline-start: 1.1rem;
  border-inline-start: 1px solid var(--line);
  position: relative;
}
li:last-child {
  border-inline-start-color: transparent;
}
li::before {
  content: '';
  position: absolute;
  inset-inline-start: -1px;
  top: 0;
  width: 0.8rem;
  height: 0.85rem;
  border-inline-start: 1px solid var(--line);
  border-block-end: 1px solid var(--line);
}
</style>
