<script setup lang="ts">
import { nextTick, toRef, useTemplateRef, watch } from 'vue'
import { useRoute } from 'vue-router'
import NotHere from '../../parts/NotHere.vue'
import StateMark from '../../parts/StateMark.vue'
import StepList from '../../parts/StepList.vue'
import { useOwnAccounts } from '../../shell/useOwnAccounts'
import { isCustomer } from '../session/state'
import { provideAccount } from './useAccount'
import { sectionsFor } from './sections'

/** What all sections of an account have in common: its name, its state, the way from one to another. */
const props = defineProps<{ account: string }>()
const { only } = useOwnAccounts()
const { data, refusal, operation } = provideAccount(toRef(props, 'account'))

// On a narrow screen the row of sections is wider than the page: the one that is open is in sight.
const route = useRoute()
const row = useTemplateRef<HTMLElement>('row')
watch(
  [row, () => route.meta.section],
  async () => {
    await nextTick()
    const open = row.value?.querySelector<HTMLElement>('.here')
    if (row.value && open) row.value.scrollLeft = open.offsetLeft - row.value.offsetLeft - 40
  },
  { immediate: true },
)
</script>

<template>
  <NotHere v-if="!data && refusal" :refusal="refusal" to="/accounts" :label="$t('All accounts')" />
  <template v-if="data">
    <div class="head">
      <RouterLink v-if="!only" to="/accounts">{{ $t('Accounts') }}</RouterLink>
      <h1>
        {{ data.name }} <StateMark v-if="data.state !== 'active'" :state="data.state" /><StateMark
          v-if="data.drifts"
          state="drift"
        />
      </h1>
    </div>
    <nav ref="row" class="sections" :class="{ railed: isCustomer }" :aria-label="$t('Sections of the account')">
      <RouterLink
        v-for="s in sectionsFor(account)"
        :key="s.path"
        :to="s.to"
        :class="{ here: $route.meta.section === s.path }"
        :aria-current="$route.meta.section === s.path ? 'page' : undefined"
        >{{ s.label }}</RouterLink
      >
    </nav>
    <section v-if="operation" :aria-label="$t('Steps')">
      <h2>{{ operation.title }}</h2>
      <StepList :operation="operation" />
    </section>
    <RouterView />
  </template>
</template>

<style scoped>
.head h1 {
  overflow-wrap: anywhere;
}
.head .state {
  margin-inline-start: 0.6rem;
  font: 0.95rem var(--sans);
}
.sections {
  display: flex;
  gap: 0 0.3rem;
  margin: 0.6rem 0 1.1rem;
  overflow-x: auto;
  border-bottom: 1px solid var(--line);
  box-shadow: 0 3px 0 -2px var(--line);
  scrollbar-width: none;
}
.sections a {
  padding: 0.35rem 0.6rem 0.4rem;
  color: var(--ink-2);
  text-decoration: none;
  white-space: nowrap;
  border-bottom: 3px solid transparent;
}
.sections a:hover {
  color: var(--ink);
}
.sections a.here {
  color: var(--ink);
  font-weight: 600;
  border-bottom-color: var(--signal);
}
@media (min-width: 901px) {
  .railed {
    height: 0;
    overflow: hidden;
    visibility: hidden;
  }
}
@media print {
  .head,
  .sections {
    display: none;
  }
}
</style>
