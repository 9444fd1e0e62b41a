<script setup lang="ts">
import type { Schemas } from '../../api/client'

/** What changed, value by value: before and after. */
defineProps<{ fields: Schemas['Difference'][] }>()
</script>

<template>
  <div v-for="f in fields" :key="f.name">
    <span class="quiet">{{ f.title }}</span> <del v-if="f.before">{{ f.before }}</del>{{
      f.before && f.after ? ' → ' : ' '
    }}{{ f.after }}
  </div>
</template>

<style scoped>
del {
  color: var(--ink-2);
}
</style>
