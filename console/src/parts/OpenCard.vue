<script setup lang="ts">
/** A page of its own for somebody who has not signed in to the console. */
const emit = defineEmits<{ submit: [] }>()
</script>

<template>
  <form class="card" @submit.prevent="emit('submit')"><slot /></form>
</template>

<style scoped>
.card {
  max-width: 26rem;
  margin: 8vh auto 0;
  display: grid;
  gap: 0.9rem;
  padding: 1.6rem;
  background: var(--sheet);
  border: 1px solid var(--line);
  border-top: 4px solid var(--signal);
}
.card :slotted(h1),
.card :slotted(p) {
  margin: 0;
  overflow-wrap: anywhere;
}
</style>
