<script setup lang="ts">
import { ElButton } from 'element-plus'

/**
 * Tells that somebody else has changed what a form is about, while something is typed into it. The
 * slot says what saving would do where the service does not refuse it.
 */
defineEmits<{ show: [] }>()
</script>

<template>
  <p class="outdated" role="status">
    ▲
    <slot>{{ $t('Somebody has changed this since you began to type, so saving it will be refused.') }}</slot>
    <ElButton size="small" @click="$emit('show')">{{ $t('Drop it and show what is there now') }}</ElButton>
  </p>
</template>

<style scoped>
.outdated {
  margin: 0 0 0.8rem;
  padding: 0.4rem 0.7rem;
  background: var(--sheet);
  border-inline-start: 3px solid var(--signal);
}
</style>
