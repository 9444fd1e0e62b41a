<script setup lang="ts" generic="C extends { key: string; title: string; fixed?: boolean }">
import { useId, useTemplateRef } from 'vue'

/** Which columns a table shows. */
const props = defineProps<{ columns: C[]; hidden: string[] }>()
const emit = defineEmits<{ change: [hidden: string[]] }>()
const id = useId()
const list = useTemplateRef<HTMLElement>('list')

// What is shown above everything is placed by the page itself, beside the button that opens it.
function place(event: ToggleEvent) {
  const button = document.getElementById(`${id}-button`)
  if (event.newState !== 'open' || !button || !list.value) return
  const at = button.getBoundingClientRect()
  list.value.style.top = `${at.bottom + 4}px`
  list.value.style.left = `${Math.max(8, at.right - list.value.offsetWidth)}px`
}
function toggle(key: string) {
  emit('change', props.hidden.includes(key) ? props.hidden.filter((k) => k !== key) : [...props.hidden, key])
}
</script>

<template>
  <button
    :id="`${id}-button`"
    type="button"
    :popovertarget="id"
    :aria-label="$t('Choose columns')"
    :title="$t('Choose columns')"
  >
    ☰
  </button>
  <div :id="id" ref="list" popover class="list" @toggle="place">
    <label v-for="c in columns.filter((c) => c.title && !c.fixed)" :key="c.key"
      ><input type="checkbox" :checked="!hidden.includes(c.key)" @change="toggle(c.key)" /> {{ c.title }}</label
    >
    <button v-if="hidden.length" type="button" class="link" @click="emit('change', [])">{{ $t('Show all') }}</button>
  </div>
</template>

<style scoped>
button:not(.link) {
  padding: 0 0.3rem;
  border: 0;
  background: none;
  font: inherit;
  color: var(--ink-2);
  cursor: pointer;
}
.list {
  position: fixed;
  inset: auto;
  margin: 0;
  padding: 0.5rem 0.8rem 0.6rem;
  color: var(--ink);
  background: var(--sheet);
  border: 1px solid var(--line);
  box-shadow: 0 6px 18px rgb(0 0 0 / 18%);
  font-weight: 400;
}
.list:popover-open {
  display: grid;
  gap: 0.25rem;
}
input {
  accent-color: var(--signal);
  vertical-align: -2px;
}
</style>
