<script setup lang="ts">
/** One fact of a strip: its name above, its value below. */
defineProps<{ name: string; for?: string }>()
</script>

<template>
  <div class="fact">
    <component :is="$props.for ? 'label' : 'span'" class="quiet" :for="$props.for">{{ name }}</component>
    <slot />
  </div>
</template>

<style scoped>
.fact {
  display: grid;
  gap: 0.1rem;
  align-content: start;
  justify-items: start;
}
</style>
