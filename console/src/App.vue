<script setup lang="ts">
import { onMounted, ref, useTemplateRef } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { ElButton, ElDialog } from 'element-plus'
import { api, ask } from './api/client'
import { areas } from './router'
import SignIn from './areas/session/SignIn.vue'
import { session, signInAgain } from './areas/session/state'
import SearchBox from './parts/SearchBox.vue'
import { useDark } from './composables/useDark'
import { useKeys } from './composables/useKeys'

const router = useRouter()
const route = useRoute()
const { dark, toggle } = useDark()
const bar = areas.filter((area) => area.label)
const search = useTemplateRef<InstanceType<typeof SearchBox>>('search')
const known = ref(false)
const keysShown = ref(false)

let going = false
useKeys({
  '/': (event) => {
    event.preventDefault()
    search.value?.focus()
  },
  '?': () => (keysShown.value = true),
  g: () => {
    going = true
    setTimeout(() => (going = false), 1200)
  },
  ...Object.fromEntries(
    bar.map((area) => [
      area.key!,
      () => {
        if (going) void router.push(area.home!)
        going = false
      },
    ]),
  ),
  n: () => void router.push('/accounts/open'),
})

onMounted(async () => {
  session.value = await ask(api.GET('/api/v1/session'))
  known.value = true
})

async function signOut() {
  await ask(api.DELETE('/api/v1/session'))
  session.value = undefined
  known.value = false
  await signInAgain()
  known.value = true
}
</script>

<template>
  <a class="skip" href="#page">Skip to the page</a>
  <header v-if="known">
    <RouterLink to="/accounts" class="mark">Victualler</RouterLink>
    <nav aria-label="Areas">
      <RouterLink v-for="area in bar" :key="area.label" :to="area.home!" :class="{ here: route.path.startsWith(area.home!) }">{{ area.label }}</RouterLink>
    </nav>
    <SearchBox ref="search" class="search" />
    <div class="who">
      <button type="button" class="plain" :aria-pressed="dark" :title="dark ? 'Light' : 'Dark'" @click="toggle">{{ dark ? 'Light' : 'Dark' }}</button>
      <button type="button" class="plain keys" title="Keys (?)" aria-label="Show keys" @click="keysShown = true">?</button>
      <span class="name">{{ session?.name }}</span>
      <button type="button" class="plain" @click="signOut">Sign out</button>
    </div>
  </header>
  <main v-if="known" id="page" tabindex="-1"><RouterView /></main>
  <SignIn />
  <ElDialog v-model="keysShown" title="Keys" width="min(26rem, 94vw)">
    <dl class="keylist">
      <template v-for="area in bar" :key="area.label">
        <dt><kbd>g</kbd> <kbd>{{ area.key }}</kbd></dt>
        <dd>{{ area.label }}</dd>
      </template>
      <dt><kbd>/</kbd></dt>
      <dd>Search accounts, domains and servers</dd>
      <dt><kbd>n</kbd></dt>
      <dd>Open an account</dd>
      <dt><kbd>↑</kbd> <kbd>↓</kbd> <kbd>Enter</kbd></dt>
      <dd>Go through a list, open a row</dd>
      <dt><kbd>?</kbd></dt>
      <dd>This list</dd>
    </dl>
    <template #footer><ElButton @click="keysShown = false">Close</ElButton></template>
  </ElDialog>
</template>

<style scoped>
header {
  position: sticky;
  top: 0;
  z-index: 20;
  display: grid;
  grid-template-columns: auto auto minmax(10rem, 26rem) 1fr;
  align-items: center;
  gap: 0 1.4rem;
  min-height: 46px;
  padding: 0 1.2rem;
  background: var(--ink-bar);
  color: var(--on-bar);
  border-bottom: 3px solid var(--signal-bar);
}
.mark {
  font: 600 1.15rem var(--serif);
  letter-spacing: 0.01em;
  color: inherit;
  text-decoration: none;
}
nav {
  display: flex;
  gap: 0.2rem;
}
nav a {
  padding: 0.75rem 0.7rem 0.6rem;
  color: var(--on-bar-2);
  text-decoration: none;
  border-bottom: 3px solid transparent;
}
nav a:hover {
  color: var(--on-bar);
}
nav a.here {
  color: var(--on-bar);
  border-bottom-color: var(--on-bar);
}
.who {
  justify-self: end;
  display: flex;
  align-items: center;
  gap: 0.9rem;
  color: var(--on-bar-2);
}
.who .name {
  color: var(--on-bar);
}
.plain {
  padding: 0.3rem 0.2rem;
  border: 0;
  background: none;
  font: inherit;
  color: inherit;
  cursor: pointer;
}
.plain:hover {
  color: var(--on-bar);
  text-decoration: underline;
}
main {
  padding: 1.1rem 1.2rem 3rem;
  max-width: 96rem;
  margin: 0 auto;
  outline: 0;
}
.skip {
  position: absolute;
  left: -99rem;
}
.skip:focus {
  left: 0.5rem;
  top: 0.5rem;
  z-index: 30;
  background: var(--sheet);
  padding: 0.4rem 0.8rem;
}
.keylist {
  display: grid;
  grid-template-columns: auto 1fr;
  gap: 0.5rem 1.2rem;
  margin: 0;
}
.keylist dd {
  margin: 0;
}
@media (max-width: 760px) {
  header {
    grid-template-columns: 1fr auto;
    padding: 0.4rem 0.8rem 0;
  }
  .search {
    grid-column: 1 / -1;
    order: 3;
    margin: 0.3rem 0;
  }
  nav {
    grid-column: 1 / -1;
    order: 4;
    margin: 0 -0.6rem;
    overflow-x: auto;
  }
  .who .name,
  .keys {
    display: none;
  }
  main {
    padding: 0.9rem 0.8rem 3rem;
  }
}
</style>
