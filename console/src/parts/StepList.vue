<script setup lang="ts">
import type { Schemas } from '../api/client'
import { took } from '../words'

/** The steps of an operation, as they happen. */
defineProps<{ operation: Schemas['Operation'] }>()

const shapes: Record<string, string> = { running: '◐', done: '●', failed: '✕', cancelled: '○' }
</script>

<template>
  <ol class="steps" aria-live="polite">
    <li v-for="step in operation.steps" :key="step.name" :class="step.state">
      <span class="shape" aria-hidden="true">{{ shapes[step.state] }}</span>
      <span class="name">{{ step.title }}</span>
      <span class="time quiet">{{
        step.state === 'running' ? $t('running') : took(step.started_at, step.finished_at)
      }}</span>
      <span class="detail">{{ step.detail }}</span>
    </li>
  </ol>
  <p v-if="operation.note" class="quiet">{{ operation.note }}</p>
  <p v-if="operation.state === 'done'" class="outcome">
    {{ $t('● Done in {finished}', { finished: took(operation.created_at, operation.finished_at) }) }}
  </p>
  <p v-else-if="operation.state === 'failed'" class="outcome failed" role="alert">
    {{ $t('✕ Failed: {failure}', { failure: operation.failure }) }}
  </p>
  <p v-else-if="operation.state === 'cancelled'" class="outcome">○ {{ operation.failure }}</p>
  <p v-else-if="operation.steps?.length === 0 && !operation.note" class="quiet">{{ $t('Waiting to begin…') }}</p>
</template>

<style scoped>
.steps {
  margin: 0;
  padding: 0;
  list-style: none;
}
li {
  display: grid;
  grid-template-columns: 1.2rem 8.6rem 4.5rem minmax(0, 1fr);
  gap: 0 0.5rem;
  padding: 0.28rem 0;
  border-bottom: 1px solid var(--line-2);
}
.name {
  font-weight: 600;
  overflow-wrap: anywhere;
}
.time {
  text-align: end;
  padding-inline-end: 0.6rem;
}
.detail {
  overflow-wrap: anywhere;
  white-space: pre-line;
}
.running .shape {
  animation: turn 1s steps(4) infinite;
}
.failed {
  color: var(--signal);
}
.outcome {
  margin: 0.7rem 0 0;
  font-weight: 600;
  overflow-wrap: anywhere;
}
@keyframes turn {
  to {
    transform: rotate(360deg);
  }
}
@media (prefers-reduced-motion: reduce) {
  .running .shape {
    animation: none;
  }
}
@media (max-width: 760px) {
  li {
    grid-template-columns: 1.2rem 1fr auto;
  }
  .detail {
    grid-column: 2 / -1;
  }
}
</style>
