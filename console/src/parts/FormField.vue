<script setup lang="ts">
/** A label, its field, and beside it what is wrong or worth knowing. */
defineProps<{ label: string; for: string; error?: string; hint?: string }>()
</script>

<template>
  <div class="field" :class="{ wrong: error }">
    <label :for="$props.for">{{ label }}</label>
    <slot />
    <p v-if="error" class="error" role="alert">{{ error }}</p>
    <p v-else-if="hint" class="hint">{{ hint }}</p>
  </div>
</template>

<style scoped>
.field {
  display: grid;
  gap: 0.2rem;
}
label {
  font-weight: 600;
}
p {
  margin: 0;
}
.error {
  color: var(--signal);
  font-weight: 550;
}
.error::before {
  content: '✕ ';
}
.hint {
  color: var(--ink-2);
}
.wrong :deep(.el-input__wrapper),
.wrong :deep(.el-select__wrapper) {
  box-shadow: 0 0 0 1px var(--signal) inset;
}
</style>
