<script setup lang="ts">
import type { Schemas } from '../../api/client'
import { ways } from './names'

/** What an authority would do, name by name. */
defineProps<{ rehearsal: Schemas['Rehearsal'] }>()
const shapes: Record<string, string> = { 'would pass': '●', 'would fail': '✕', 'cannot know': '◔' }
</script>

<template>
  <section aria-live="polite">
    <h2>Rehearsal <span class="quiet">no authority was asked</span></h2>
    <dl>
      <template v-for="n in rehearsal.names" :key="n.name">
        <dt>{{ n.name }}</dt>
        <dd>
          <b :class="{ warn: n.result === 'would fail' }">{{ shapes[n.result] }} {{ n.result }}</b><span v-if="n.way" class="quiet"> {{ ways[n.way] }}</span>
          <template v-if="n.reason"><br />{{ n.reason }}<br /><span class="do">→ {{ n.do }}</span></template>
        </dd>
      </template>
    </dl>
  </section>
</template>

<style scoped>
dl {
  display: grid;
  grid-template-columns: max-content minmax(0, 1fr);
  gap: 0.5rem 1.2rem;
  margin: 0;
  padding: 0.6rem 0.8rem;
  background: var(--sheet);
  border: 1px solid var(--line);
}
dd {
  margin: 0;
  max-width: 56rem;
  overflow-wrap: anywhere;
}
.do {
  font-weight: 550;
}
@media (max-width: 760px) {
  dl {
    grid-template-columns: minmax(0, 1fr);
    gap: 0.2rem;
  }
}
</style>
