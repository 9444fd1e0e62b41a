<script setup lang="ts">
import { onMounted, ref, useTemplateRef } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { ElButton } from 'element-plus'
import { api, ask } from './api/client'
import { trouble } from './api/trouble'
import { areas } from './areas'
import MustFirst from './areas/session/MustFirst.vue'
import SessionEnd from './areas/session/SessionEnd.vue'
import SignIn from './areas/session/SignIn.vue'
import { may, mustFirst, session, signedIn, signInAgain } from './areas/session/state'
import ProblemNote from './parts/ProblemNote.vue'
import PersonMenu from './shell/PersonMenu.vue'
import SearchBox from './shell/SearchBox.vue'
import ShortcutList from './shell/ShortcutList.vue'
import SideRail from './shell/SideRail.vue'
import { useRail } from './shell/useRail'
import { useBrand } from './composables/useBrand'
import { useKeys } from './composables/useKeys'

const router = useRouter()
const route = useRoute()
const rail = useRail()
useBrand()
const search = useTemplateRef<InstanceType<typeof SearchBox>>('search')
const known = ref(false)
const shortcuts = ref(false)

let going = false
useKeys({
  '/': (event) => {
    event.preventDefault()
    search.value?.focus()
  },
  '?': () => (shortcuts.value = true),
  '[': () => rail.toggle(),
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
  if (!route.meta.open) signedIn(await ask(api.GET('/api/v1/session')))
  known.value = true
})

const again = () => location.reload()

async function signOut() {
  await ask(api.DELETE('/api/v1/session'))
  session.value = undefined
  known.value = false
  await signInAgain()
  await router.push('/')
  known.value = true
}

async function stopActing() {
  await ask(api.DELETE('/api/v1/session/acting'))
  location.assign('/') // everything that was loaded as somebody else is forgotten
}
</script>

<template>
  <a class="skip" href="#page">{{ $t('Skip to the page') }}</a>
  <div class="shell">
    <SideRail v-if="known && session && !mustFirst"
      ><PersonMenu @shortcuts="shortcuts = true" @sign-out="signOut"
    /></SideRail>
    <div class="side">
      <header v-if="known && session" class="top">
        <template v-if="!mustFirst">
          <button
            type="button"
            class="menu"
            :aria-expanded="rail.shown.value"
            :title="rail.shown.value ? $t('Hide the areas') + '  [' : $t('Show the areas') + '  ['"
            @click="rail.toggle()"
          >
            <span aria-hidden="true">☰</span><span class="unseen">{{ $t('Areas') }}</span>
          </button>
          <RouterLink v-if="!rail.shown.value || rail.narrow.value" to="/" class="mark">{{ session.title }}</RouterLink>
          <SearchBox ref="search" class="search" />
        </template>
        <template v-else
          ><span class="mark">{{ session.title }}</span
          ><ElButton size="small" @click="signOut">{{ $t('Sign out') }}</ElButton></template
        >
      </header>
      <div v-if="session?.acting_as" class="acting" role="status">
        <i18n-t
          keypath="You, {name}, act as {other}. What you change is recorded with both names."
          scope="global"
          tag="span"
          ><template #name>{{ session.name }}</template
          ><template #other
            ><b>{{ session.acting_as }}</b></template
          ></i18n-t
        >
        <ElButton size="small" @click="stopActing">{{ $t('Stop acting') }}</ElButton>
      </div>
      <SessionEnd />
      <ProblemNote v-if="trouble" :refusal="trouble" class="trouble"
        ><ElButton size="small" @click="again">{{ $t('Load the page again') }}</ElButton></ProblemNote
      >
      <main v-if="known" id="page" tabindex="-1">
        <MustFirst v-if="mustFirst && !route.meta.open" /><RouterView v-else />
      </main>
      <footer v-if="known && session?.brand?.footer">{{ session.brand.footer }}</footer>
    </div>
  </div>
  <SignIn />
  <ShortcutList v-model="shortcuts" />
</template>

<style scoped>
.shell {
  display: flex;
  align-items: flex-start;
}
.side {
  flex: 1;
  min-width: 0;
}
.top {
  position: sticky;
  top: 0;
  z-index: 20;
  display: flex;
  gap: 0.8rem;
  align-items: center;
  min-height: 46px;
  padding: 0 1.2rem;
  background: var(--paper);
  border-bottom: 1px solid var(--line);
}
.menu {
  padding: 0.2rem 0.5rem;
  border: 1px solid var(--line);
  border-radius: 2px;
  font: inherit;
  color: var(--ink);
  background: var(--sheet);
  cursor: pointer;
}
.mark {
  overflow: hidden;
  font: 600 1.05rem var(--serif);
  color: inherit;
  text-decoration: none;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.search {
  flex: 1;
  max-width: 34rem;
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
  padding: 0.8rem 1.2rem 1.6rem;
  color: var(--ink-2);
}
main {
  padding: 1.1rem 1.2rem 3rem;
  max-width: 96rem;
  outline: 0;
}
.skip {
  position: absolute;
  inset-inline-start: -99rem;
}
.skip:focus {
  inset-inline-start: 0.5rem;
  top: 0.5rem;
  z-index: 40;
  background: var(--sheet);
  padding: 0.4rem 0.8rem;
}
@media (max-width: 760px) {
  .top {
    padding: 0 0.8rem;
  }
  .mark {
    display: none;
  }
  .acting {
    position: static;
  }
  main {
    padding: 0.9rem 0.8rem 3rem;
  }
}
</style>
