<script setup lang="ts">
import { computed } from 'vue'
import { named } from '../codes'

/** A state in words, with a shape that can be told apart without colour. */
const props = defineProps<{ state: string }>()

const shapes: Record<string, string> = {
  active: '●',
  good: '●',
  up: '●',
  done: '●',
  running: '◐',
  opening: '◐',
  closing: '◑',
  waiting: '◔',
  joining: '◔',
  closed: '○',
  suspended: '‖',
  sent: '●',
  failed: '✕',
  cancelled: '○',
  down: '✕',
  'no answer': '✕',
  drift: '▲',
  valid: '●',
  uploaded: '●',
  ordered: '◐',
  'self-signed': '○',
  failing: '✕',
  expired: '✕',
  delivered: '●',
  forwarded: '●',
  kept: '○',
  refused: '✕',
}
const shape = computed(() => shapes[props.state] ?? '▲')
const calls = computed(() => ['✕', '▲', '‖'].includes(shape.value))
</script>

<template>
  <span class="state" :class="{ calls }"
    ><span aria-hidden="true">{{ shape }}</span> {{ named(state) }}</span
  >
</template>

<style scoped>
.state {
  white-space: nowrap;
}
.calls {
  color: var(--signal);
  font-weight: 600;
}
</style>
