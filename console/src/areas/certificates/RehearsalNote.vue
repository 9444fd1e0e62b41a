<script setup lang="ts">
import { computed } from 'vue'
import type { Schemas } from '../../api/client'
import { ways } from './names'

/** What an authority would do, name by name. */
const props = defineProps<{ rehearsal: Schemas['Rehearsal'] }>()
const shapes: Record<string, string> = { 'would pass': '●', 'would fail': '✕', 'cannot know': '◔' }
type Name = Schemas['RehearsedName']
/** Names of which the same is to be said stand together. */
const groups = computed(() => {
  const list: { names: string[]; of: Name }[] = []
  const same = (a: Name, b: Name) =>
    a.result === b.result && a.proof === b.proof && a.reason === b.reason && a.fix === b.fix
  for (const n of props.rehearsal.names) {
    const there = list.find((g) => same(g.of, n))
    if (there) there.names.push(n.name)
    else list.push({ names: [n.name], of: n })
  }
  return list
})
</script>

<template>
  <section aria-live="polite">
    <h2>
      {{ $t('Rehearsal') }} <span class="quiet">{{ $t('no authority was asked') }}</span>
    </h2>
    <dl>
      <template v-for="group in groups" :key="group.names[0]">
        <dt>
          <div v-for="name in group.names" :key="name">{{ name }}</div>
        </dt>
        <dd>
          <b :class="{ warn: group.of.result === 'would fail' }">{{ shapes[group.of.result] }} {{ group.of.result }}</b>
          {{ ' ' }}
          <span v-if="group.of.proof" class="quiet">{{ ways[group.of.proof] }}</span>
          <template v-if="group.of.reason"
            ><br />{{ group.of.reason }}<br /><span class="do">→ {{ group.of.fix }}</span></template
          >
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
