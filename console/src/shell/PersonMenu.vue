<script setup lang="ts">
import { useTemplateRef, watch } from 'vue'
import { useRoute } from 'vue-router'
import { api, ask } from '../api/client'
import { may, session } from '../areas/session/state'
import { useDark } from '../composables/useDark'
import { speak } from '../language'
import LanguageChoice from '../parts/LanguageChoice.vue'

/** What belongs to the person: their sign-in, how the console looks, its shortcuts, signing out. */
const emit = defineEmits<{ shortcuts: []; signOut: [] }>()
const route = useRoute()
const { dark, toggle } = useDark()
const menu = useTemplateRef<HTMLDetailsElement>('menu')
const close = () => {
  if (menu.value) menu.value.open = false
}
watch(() => route.fullPath, close)

async function choose(tag: string) {
  await ask(api.PUT('/api/v1/session/language', { body: { language: tag } }))
  speak(tag)
}
</script>

<template>
  <details v-if="session" ref="menu" class="person" @keydown.esc="close">
    <summary>{{ session.name }}</summary>
    <div class="menu">
      <RouterLink to="/me">{{ $t('Your sign-in') }}</RouterLink>
      <button type="button" :aria-pressed="dark" @click="toggle">{{ dark ? $t('Light') : $t('Dark') }}</button>
      <button type="button" @click="(close(), emit('shortcuts'))">{{ $t('Shortcuts') }} <kbd>?</kbd></button>
      <LanguageChoice v-if="may('personal')" class="languages" @choose="choose" />
      <button type="button" @click="emit('signOut')">{{ $t('Sign out') }}</button>
    </div>
  </details>
</template>

<style scoped>
.person {
  position: relative;
  border-top: 1px solid rgb(255 255 255 / 16%);
}
summary {
  padding: 0.65rem 1.1rem;
  color: var(--on-bar);
  cursor: pointer;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.menu {
  position: absolute;
  inset: auto 0.6rem calc(100% - 0.3rem);
  z-index: 40;
  display: grid;
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
  text-align: start;
  text-decoration: none;
  cursor: pointer;
}
.languages {
  padding: 0.4rem 0.9rem;
}
.menu .languages button {
  padding: 0;
}
.menu a:hover,
.menu button:hover,
.menu a:focus-visible,
.menu button:focus-visible {
  background: var(--signal-wash);
}
</style>
