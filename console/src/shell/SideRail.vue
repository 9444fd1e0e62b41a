<script setup lang="ts">
import { computed, watch } from 'vue'
import { useRoute } from 'vue-router'
import { sectionsFor } from '../areas/accounts/sections'
import { isCustomer, session } from '../areas/session/state'
import { useAreas } from './useAreas'
import { useOwnAccounts } from './useOwnAccounts'
import { useRail } from './useRail'

/** The way to every area, in groups; for customers, to the sections of their account. */
const route = useRoute()
const rail = useRail()
const { narrow, shown, isClosed, toggleGroup } = rail
const { grouped } = useAreas()
const { accounts, only } = useOwnAccounts()

/** Where the rail says that one is: a page can belong to another area than its address. */
const here = computed(() => (typeof route.meta.area === 'string' ? route.meta.area : route.path))
const isHere = (home: string) => here.value === home || here.value.startsWith(`${home}/`)

/** The account whose sections are shown: that of the page, or the only one. */
const account = computed(() => {
  if (!isCustomer.value) return undefined
  const named = typeof route.params.account === 'string' ? route.params.account : undefined
  const found = accounts.value?.find((a) => a.sign_in_name === named || String(a.id) === named)
  return found ?? (named ? undefined : only.value)
})
const sections = computed(() => sectionsFor(account.value?.sign_in_name ?? ''))

watch(() => route.fullPath, rail.leave)
</script>

<template>
  <div v-if="narrow && shown" class="behind" @click="rail.leave()"></div>
  <aside v-show="shown" v-if="session" class="rail" :class="{ over: narrow }" @keydown.esc="rail.leave()">
    <RouterLink to="/" class="mark"
      ><img v-if="session.brand?.logo" :src="session.brand.logo" :alt="session.title" /><template v-else>{{
        session.title
      }}</template></RouterLink
    >
    <nav :aria-label="$t('Areas')">
      <RouterLink v-if="!isCustomer" to="/" :class="{ here: route.path === '/' }">{{ $t('Overview') }}</RouterLink>
      <template v-if="account">
        <p class="group account">{{ account.name }}</p>
        <RouterLink
          v-for="s in sections"
          :key="s.path"
          :to="s.to"
          :class="{ here: route.meta.section === s.path }"
          :aria-current="route.meta.section === s.path ? 'page' : undefined"
          >{{ s.label }}</RouterLink
        >
      </template>
      <template v-for="group in grouped" :key="group.name">
        <button
          type="button"
          class="group"
          :aria-expanded="!isClosed(group.name)"
          :aria-controls="`group-${group.name}`"
          @click="toggleGroup(group.name)"
        >
          {{ isCustomer && group.name === 'hosting' ? $t('All accounts') : group.label }}
        </button>
        <div :id="`group-${group.name}`">
          <template v-for="area in group.areas" :key="area.label">
            <RouterLink
              v-if="!isClosed(group.name) || isHere(area.home!)"
              :to="area.home!"
              :class="{ here: isHere(area.home!) && !account }"
              >{{ area.label }}</RouterLink
            >
          </template>
        </div>
      </template>
    </nav>
    <slot />
  </aside>
</template>

<style scoped>
.rail {
  position: sticky;
  top: 0;
  z-index: 30;
  display: flex;
  flex-direction: column;
  width: 13rem;
  height: 100dvh;
  color: var(--on-bar);
  background: var(--ink-bar);
  border-inline-end: 3px solid var(--signal-bar);
}
.over {
  position: fixed;
  inset-block: 0;
  inset-inline-start: 0;
  width: min(17rem, 84vw);
  box-shadow: 0 0 30px rgb(0 0 0 / 45%);
}
.behind {
  position: fixed;
  inset: 0;
  z-index: 29;
  background: rgb(10 14 14 / 45%);
}
.mark {
  padding: 0.65rem 1.1rem 0.6rem;
  font: 600 1.12rem/1.25 var(--serif);
  color: inherit;
  text-decoration: none;
}
.mark img {
  display: block;
  height: 30px;
  max-width: 100%;
  object-fit: contain;
}
nav {
  flex: 1;
  padding-bottom: 0.8rem;
  overflow-y: auto;
  scrollbar-width: thin;
}
nav a {
  display: block;
  padding: 0.22rem 1.1rem;
  color: var(--on-bar-2);
  text-decoration: none;
  border-inline-start: 3px solid transparent;
}
nav a:hover {
  color: var(--on-bar);
}
nav a.here {
  color: var(--on-bar);
  background: rgb(255 255 255 / 9%);
  border-inline-start-color: var(--on-bar);
}
.group {
  display: block;
  width: 100%;
  margin: 0.85rem 0 0.15rem;
  padding: 0 1.25rem;
  border: 0;
  background: none;
  font: 600 0.76rem/1.5 var(--sans);
  letter-spacing: 0.06em;
  text-align: start;
  color: var(--on-bar);
}
button.group {
  cursor: pointer;
}
button.group::after {
  content: ' ▾';
  color: var(--on-bar-2);
}
button.group[aria-expanded='false']::after {
  content: ' ▸';
}
.account {
  overflow-wrap: anywhere;
}
:focus-visible {
  outline-color: var(--on-bar);
  outline-offset: -2px;
}
</style>
