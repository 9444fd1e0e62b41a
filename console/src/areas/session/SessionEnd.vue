<script setup lang="ts">
import { computed, ref } from 'vue'
import { ElButton } from 'element-plus'
import { api, ask } from '../../api/client'
import { session, signInAgain } from './state'
import { useIntervalFn } from '@vueuse/core'

/** Warns before the session ends, and lets it go on or begin anew, with the page as it is. */
const now = ref(Date.now())
useIntervalFn(() => (now.value = Date.now()), 5_000)

const warnFor = 5 * 60_000
const ends = computed(() => new Date(session.value?.ends_at ?? 0).getTime())
const left = computed(() => ends.value - now.value)
/** However much it is used, it ends then: only signing in again helps. */
const forGood = computed(() => new Date(session.value?.ends_latest ?? 0).getTime() - now.value < warnFor)
const shown = computed(() => session.value !== undefined && left.value < warnFor && left.value > -60_000)
const minutes = computed(() => Math.max(1, Math.ceil(left.value / 60_000)))

// What the session's end is now, others of this browser may have put off.
let checked = 0
useIntervalFn(() => {
  if (!shown.value || Date.now() - checked < 15_000) return
  checked = Date.now()
  void ask(api.GET('/api/v1/session')).then((s) => (session.value = s))
}, 5_000)

async function stay() {
  session.value = await ask(api.GET('/api/v1/session'))
}
</script>

<template>
  <div v-if="shown" class="ending" role="alert">
    <span
      >{{
        forGood
          ? $t('Your session ends in {minutes} min, however much it is used.', { minutes })
          : $t('Your session ends in {minutes} min.', { minutes })
      }}
      {{ $t('Nothing you have typed is lost by signing in again.') }}</span
    >
    <ElButton v-if="forGood" size="small" @click="signInAgain()">{{ $t('Sign in again now') }}</ElButton>
    <ElButton v-else size="small" @click="stay">{{ $t('Stay signed in') }}</ElButton>
  </div>
</template>

<style scoped>
.ending {
  display: flex;
  flex-wrap: wrap;
  gap: 0.5rem 1rem;
  align-items: center;
  padding: 0.45rem 1.2rem;
  background: var(--signal-wash);
  border-bottom: 1px solid var(--signal);
}
</style>
