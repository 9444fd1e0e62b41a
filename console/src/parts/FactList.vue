<script setup lang="ts">
/** Names and values beside each other. */
defineProps<{ facts: [name: string, value: string][] }>()
</script>

<template>
  <dl>
    <template v-for="[name, value] in facts" :key="name">
      <dt>{{ name }}</dt>
      <dd>{{ value }}</dd>
    </template>
  </dl>
</template>

<style scoped>
dl {
  display: grid;
  grid-template-columns: max-content minmax(0, 1fr);
  gap: 0.25rem 1.1rem;
  margin: 0;
}
dt {
  color: var(--ink-2);
}
dd {
  margin: 0;
  overflow-wrap: anywhere;
}
</style>
