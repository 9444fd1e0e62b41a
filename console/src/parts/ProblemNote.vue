<script setup lang="ts">
import type { Refusal } from '../api/client'

/** What was refused, and why: nothing was changed. */
defineProps<{ refusal?: Refusal }>()
</script>

<template>
  <div v-if="refusal" class="note" role="alert">
    <strong>{{ refusal.problem.title }}</strong>
    <p>{{ refusal.message }}</p>
    <slot />
  </div>
</template>

<style scoped>
.note {
  margin: 0.6rem 0;
  padding: 0.55rem 0.8rem;
  border-inline-start: 4px solid var(--signal);
  background: var(--signal-wash);
}
p {
  margin: 0.15rem 0 0;
}
</style>
