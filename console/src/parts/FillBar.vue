<script setup lang="ts">
import { computed } from 'vue'
import { amount } from '../words'
import { t } from '../language'

/** How much of a limit is used: both numbers with their unit, and a bar. */
const props = defineProps<{
  used: number | null | undefined
  of: number | null | undefined
  unit: string
  what: string
}>()

const share = computed(() => (props.used == null || !props.of ? 0 : Math.min(1, props.used / props.of)))
const text = computed(() =>
  t('{what} of {unit}', {
    what: props.used == null ? '–' : amount(props.used, props.unit),
    unit: amount(props.of, props.unit),
  }),
)
const level = computed(() => (share.value >= 0.95 ? 'full' : share.value >= 0.8 ? 'near' : ''))
</script>

<template>
  <span class="fill" :title="what">
    <span class="numbers">{{ text }}<span v-if="level" class="warn"> ▲</span></span>
    <svg v-if="of" viewBox="0 0 100 4" preserveAspectRatio="none" aria-hidden="true" :class="level">
      <rect class="whole" width="100" height="4" />
      <rect class="part" :width="share * 100" height="4" />
    </svg>
  </span>
</template>

<style scoped>
.fill {
  display: inline-grid;
  gap: 2px;
  min-width: 6.5rem;
}
.numbers {
  white-space: nowrap;
}
svg {
  width: 100%;
  height: 3px;
}
.whole {
  fill: var(--line);
}
.part {
  fill: var(--fill);
}
.near .part,
.full .part {
  fill: var(--signal);
}
.warn {
  color: var(--signal);
}
</style>
