<script setup lang="ts">
import { computed, onMounted, ref, useTemplateRef, watchEffect } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { ElButton, ElDialog } from 'element-plus'
import { api, ask } from './api/client'
import { trouble } from './api/trouble'
import { areas } from './areas'
import MustFirst from './areas/session/MustFirst.vue'
import SessionEnd from './areas/session/SessionEnd.vue'
import SignIn from './areas/session/SignIn.vue'
import { may, session, signInAgain } from './areas/session/state'
import ProblemNote from './parts/ProblemNote.vue'
import SearchBox from './parts/SearchBox.vue'
import { useBrand } from './composables/useBrand'
import { useDark } from './composables/useDark'
import { useKeys } from './composables/useKeys'

const router = useRouter()
const route = useRoute()
const { dark, toggle } = useDark()
useBrand()
const shown = computed(() =>
  areas
    .filter((area) => area.label && (!area.permission || may(area.permission)))
    .map((area) => (session.value?.role === 'reseller' && area.ownLabel ? { ...area, label: area.ownLabel } : area)),
)
const bar = computed(() => shown.value.filter((area) => !area.menu))
const menu = computed(() => shown.value.filter((area) => area.menu))
/** Where the bar says that one is: a page can belong to another area than its address. */
const here = computed(() => (typeof route.meta.area === 'string' ? route.meta.area : route.path))
const search = useTemplateRef<InstanceType<typeof SearchBox>>('search')
const more = useTemplateRef<HTMLDetailsElement>('more')
const known = ref(false)
const keysShown = ref(false)
const mustFirst = computed(() => (session.value?.must_first.length ?? 0) > 0)

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
    areas
      .filter((area) => area.key)
      .map((area) => [
        area.key!,
        () => {
          if (going && (!area.permission || may(area.permission))) void router.push(area.home!)
          going = false
        },
      ]),
  ),
  n: () => {
    if (going || !may('accounts.open')) return
    void router.push('/accounts/open')
  },
})

onMounted(async () => {
  await router.isReady().catch(() => undefined) // told by the router's own handler
  if (!route.meta.open) session.value = await ask(api.GET('/api/v1/session'))
  known.value = true
})

watchEffect(() => {
  void route.fullPath
  if (more.value) more.value.open = false
})

const again = () => location.reload()

async function signOut() {
  await ask(api.DELETE('/api/v1/session'))
  session.value = undefined
  known.value = false
  await signInAgain()
  await router.push('/accounts')
  known.value = true
}

async function stopActing() {
  await ask(api.DELETE('/api/v1/session/acting'))
  location.assign('/accounts') // everything that was loaded as somebody else is forgotten
}
</script>

<template>
  <a class="skip" href="#page">Skip to the page</a>
  <header v-if="known && session">
    <RouterLink to="/accounts" class="mark"
      ><img v-if="session.brand?.logo" :src="session.brand.logo" :alt="session.title" /><template v-else>{{
        session.title
      }}</template></RouterLink
    >
    <nav v-if="!mustFirst" aria-label="Areas">
      <RouterLink
        v-for="area in bar"
        :key="area.label"
        :to="area.home!"
        :class="{ here: here.startsWith(area.home!) }"
        >{{ area.label }}</RouterLink
      >
    </nav>
    <SearchBox v-if="!mustFirst" ref="search" class="search" />
    <div class="who">
      <details ref="more" class="more" @keydown.esc="more!.open = false">
        <summary>{{ session.name }}</summary>
        <div class="menu">
          <RouterLink v-for="area in menu" :key="area.label" :to="area.home!">{{ area.label }}</RouterLink>
          <button type="button" :aria-pressed="dark" @click="toggle">{{ dark ? 'Light' : 'Dark' }}</button>
          <button type="button" aria-label="Show keys" @click="keysShown = true">Keys <kbd>?</kbd></button>
          <button type="button" @click="signOut">Sign out</button>
        </div>
      </details>
    </div>
  </header>
  <div v-if="session?.acting_as" class="acting" role="status">
    <span
      >You, {{ session.name }}, act as <b>{{ session.acting_as }}</b>. What you change is recorded with both
      names.</span
    >
    <ElButton size="small" @click="stopActing">Stop acting</ElButton>
  </div>
  <SessionEnd />
  <ProblemNote v-if="trouble" :refusal="trouble" class="trouble"
    ><ElButton size="small" @click="again">Load the page again</ElButton></ProblemNote
  >
  <main v-if="known" id="page" tabindex="-1">
    <MustFirst v-if="mustFirst && !route.meta.open" /><RouterView v-else />
  </main>
  <footer v-if="known && session?.brand?.footer">{{ session.brand.footer }}</footer>
  <SignIn />
  <ElDialog v-model="keysShown" title="Keys" width="min(26rem, 94vw)">
    <dl class="keylist">
      <template v-for="area in shown.filter((a) => a.key)" :key="area.label">
        <dt>
          <kbd>g</kbd> <kbd>{{ area.key }}</kbd>
        </dt>
        <dd>{{ area.label }}</dd>
      </template>
      <dt><kbd>/</kbd></dt>
      <dd>Search accounts, domains, customers and servers</dd>
      <dt v-if="may('accounts.open')"><kbd>n</kbd></dt>
      <dd v-if="may('accounts.open')">Open an account</dd>
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
  grid-template-columns: auto auto minmax(9rem, 24rem) 1fr;
  align-items: center;
  gap: 0 1.2rem;
  min-height: 46px;
  padding: 0 1.2rem;
  background: var(--ink-bar);
  color: var(--on-bar);
  border-bottom: 3px solid var(--signal-bar);
}
.mark {
  white-space: nowrap;
  font: 600 1.15rem var(--serif);
  letter-spacing: 0.01em;
  color: inherit;
  text-decoration: none;
}
.mark img {
  display: block;
  height: 30px;
  max-width: 12rem;
  object-fit: contain;
}
nav {
  display: flex;
  gap: 0.1rem;
}
nav a {
  padding: 0.75rem 0.6rem 0.6rem;
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
}
.more {
  position: relative;
}
.more summary {
  padding: 0.3rem 0.2rem;
  color: var(--on-bar);
  cursor: pointer;
  max-width: 14rem;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.menu {
  position: absolute;
  inset: calc(100% + 0.5rem) 0 auto auto;
  z-index: 40;
  display: grid;
  min-width: 11rem;
  padding: 0.3rem 0;
  color: var(--ink);
  background: var(--sheet);
  border: 1px solid var(--line);
  box-shadow: 0 6px 18px rgb(0 0 0 / 18%);
}
.menu a,
.menu button {
  padding: 0.4rem 0.9rem;
  border: 0;
  background: none;
  font: inherit;
  color: inherit;
  text-align: left;
  text-decoration: none;
  cursor: pointer;
}
.menu a:hover,
.menu button:hover,
.menu a:focus-visible,
.menu button:focus-visible {
  background: var(--signal-wash);
}
.acting {
  position: sticky;
  top: 46px;
  z-index: 19;
  display: flex;
  flex-wrap: wrap;
  gap: 0.4rem 1rem;
  align-items: center;
  padding: 0.4rem 1.2rem;
  color: var(--on-signal);
  background: var(--signal);
}
.trouble {
  max-width: 92rem;
  margin: 1rem auto 0;
}
.trouble button {
  margin-top: 0.5rem;
}
footer {
  max-width: 96rem;
  margin: 0 auto;
  padding: 0.8rem 1.2rem 1.6rem;
  color: var(--ink-2);
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
    min-width: 0;
    grid-column: 1 / -1;
    order: 4;
    margin: 0 -0.6rem;
    overflow-x: auto;
  }
  .acting {
    position: static;
  }
  main {
    padding: 0.9rem 0.8rem 3rem;
  }
}
</style>
