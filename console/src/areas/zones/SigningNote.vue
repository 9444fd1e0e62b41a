<script setup lang="ts">
import { useIntervalFn } from '@vueuse/core'
import { api, ask } from '../../api/client'
import { useLoad } from '../../composables/useLoad'
import ProblemNote from '../../parts/ProblemNote.vue'

/** How a signed zone is signed, and what the registrar has to be given. */
const props = defineProps<{ zone: string }>()
const { data, refusal, reload } = useLoad(() =>
  ask(api.GET('/api/v1/zones/{zone}/signing', { params: { path: { zone: props.zone } } })),
)
// The keys of a zone that has just been signed are made a moment later.
useIntervalFn(() => {
  if (!document.hidden && data.value && !data.value.ds?.length) void reload()
}, 2000)
</script>

<template>
  <section>
    <h2>{{ $t('Signing') }}</h2>
    <ProblemNote :refusal="refusal" />
    <template v-if="data">
      <p>{{ data.state }}</p>
      <dl>
        <template v-for="ds in data.ds" :key="ds"
          ><dt>{{ $t('DS, for the registrar') }}</dt>
          <dd>
            <code>{{ ds }}</code>
          </dd></template
        >
        <template v-for="ds in data.parent" :key="ds"
          ><dt>{{ $t('DS at the parent now') }}</dt>
          <dd>
            <code>{{ ds }}</code>
          </dd></template
        >
        <template v-for="k in data.keys" :key="k.tag"
          ><dt>{{ $t('{use} key', { use: k.use }) }}</dt>
          <dd>{{ $t('{tag}, algorithm {algorithm}', { tag: k.tag, algorithm: k.algorithm }) }}</dd></template
        >
      </dl>
    </template>
  </section>
</template>

<style scoped>
dl {
  display: grid;
  grid-template-columns: auto 1fr;
  gap: 0.2rem 1.2rem;
  margin: 0.4rem 0 0;
}
dt {
  color: var(--ink-2);
}
dd {
  margin: 0;
  overflow-wrap: anywhere;
}
</style>
