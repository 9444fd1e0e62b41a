<script setup lang="ts">
import { computed } from 'vue'
import type { Schemas } from '../../api/client'
import FactList from '../../parts/FactList.vue'

/** What answers for a name, and where public DNS leads. */
const props = defineProps<{ trace: Schemas['Trace'] }>()
const facts = computed<[string, string][]>(() => {
  const t = props.trace
  return [
    ['Rule', t.rule],
    ...(t.server ? ([['Server', `${t.server} ${t.ours.join(', ')}`]] as [string, string][]) : []),
    ...t.asked.map((a) => [a.url, a.failed ?? `${a.status} ${a.location ?? ''}`.trim()] as [string, string]),
    ...t.public_dns.map(
      (w) =>
        ['Public DNS gives', w.right ? `● ${w.address}` : `▲ ${w.address}, which is ${w.server || 'not ours'}`] as [
          string,
          string,
        ],
    ),
    ...(t.failed ? ([['Public DNS', t.failed]] as [string, string][]) : []),
  ]
})
</script>

<template>
  <section class="trace" aria-live="polite">
    <h2>{{ trace.right ? '●' : '▲' }} {{ trace.verdict }}</h2>
    <FactList :facts="facts" />
  </section>
</template>

<style scoped>
.trace {
  margin: 0 0 1rem;
  padding: 0.7rem 1rem;
  background: var(--sheet);
  border: 1px dashed var(--ink-2);
}
h2 {
  margin: 0 0 0.4rem;
  overflow-wrap: anywhere;
}
</style>
