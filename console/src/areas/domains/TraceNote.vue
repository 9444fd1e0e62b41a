<script setup lang="ts">
import { computed } from 'vue'
import type { Schemas } from '../../api/client'
import FactList from '../../parts/FactList.vue'
import { t } from '../../language'

/** What answers for a name, and where public DNS leads. */
const props = defineProps<{ trace: Schemas['Trace'] }>()
const facts = computed<[string, string][]>(() => {
  const { trace } = props
  return [
    [t('Rule'), trace.rule],
    ...(trace.server ? ([[t('Server'), `${trace.server} ${trace.ours.join(', ')}`]] as [string, string][]) : []),
    ...trace.asked.map((a) => [a.url, a.failed ?? `${a.status} ${a.location ?? ''}`.trim()] as [string, string]),
    ...trace.public_dns.map(
      (w) =>
        [
          t('Public DNS gives'),
          w.right
            ? `● ${w.address}`
            : t('▲ {address}, which is {what}', {
                address: w.address,
                what: w.server || (w.ours ? t('another server of ours') : t('not ours')),
              }),
        ] as [string, string],
    ),
    ...(trace.failed ? ([[t('Public DNS'), trace.failed]] as [string, string][]) : []),
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
