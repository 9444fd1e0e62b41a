<script setup lang="ts">
import type { Schemas } from '../api/client'

/** What others find of a domain's mail before they take a message. */
defineProps<{ findings: Schemas['MailFinding'][] }>()
</script>

<template>
  <div role="status">
    <ul>
      <li v-for="(f, n) in findings" :key="n" :class="{ wrong: !f.right }">
        <span class="mark">{{ f.right ? $t('● right') : $t('▲ wrong') }}</span>
        <span
          >{{ f.says }}<template v-if="f.do"><br />→ {{ f.do }}</template></span
        >
      </li>
    </ul>
  </div>
</template>

<style scoped>
ul {
  list-style: none;
  padding: 0;
  margin: 0.4rem 0;
}
li {
  display: grid;
  grid-template-columns: 5.5rem 1fr;
  gap: 0.6rem;
  padding-block: 0.35rem;
  border-block-end: 1px solid var(--line);
  overflow-wrap: anywhere;
}
.mark {
  color: var(--ink-2);
}
.wrong .mark {
  color: var(--signal);
}
</style>
