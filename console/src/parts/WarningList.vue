<script setup lang="ts">
import type { Schemas } from '../api/client'
import { ago } from '../words'

/** What does not work because of what is in the home: what it is, what visitors see, what to do. */
defineProps<{ warnings: Schemas['Warning'][]; account?: string }>()
</script>

<template>
  <ul v-if="warnings.length" class="notes" :aria-label="$t('Warnings')">
    <li v-for="w in warnings" :key="w.part + w.subject + w.path + w.code" class="warn">
      ▲
      <RouterLink v-if="account && w.part === 'site'" :to="`/accounts/${account}/domains/${w.subject}`">{{
        w.subject
      }}</RouterLink><b v-else-if="account && w.subject">{{ w.subject }}</b
      ><template v-if="account && w.subject">: </template>{{ w.what }} {{ w.seen }}
      <span class="mend"
        >{{ w.mend }} <span class="quiet">{{ $t('Since {since}.', { since: ago(w.since) }) }}</span></span
      >
    </li>
  </ul>
</template>

<style scoped>
ul {
  margin-bottom: 1.2rem;
}
.mend {
  display: block;
  color: var(--ink);
}
</style>
