<script setup lang="ts">
import type { Schemas } from '../api/client'
import { named } from '../codes'

/** Differences on a server: of files as a diff, of databases as the statements that put them right. */
defineProps<{ changes: (Schemas['Change'] & { account?: string })[]; open?: boolean }>()

/** Of an account on several servers, a part is named “server: part”. */
const part = (name: string) => name.split(': ').map(named).join(': ')
const isDiff = (text: string) => text.startsWith('--- ')
const kinds: Record<string, string> = { '+': 'add', '-': 'cut', '@': 'at' }
const kind = (text: string, line: string) => (isDiff(text) && kinds[line[0] ?? '']) || ''
/** The lines that are shown: of a diff, those after the names of both sides. */
const lines = (text: string) =>
  text
    .trimEnd()
    .split('\n')
    .slice(isDiff(text) ? 2 : 0)
</script>

<template>
  <ul class="changes">
    <li v-for="(change, n) in changes" :key="n">
      <details v-if="change.diff" :open="open">
        <summary>
          <b>{{ part(change.part) }}</b> <span v-if="change.account">{{ change.account }}</span>
          {{ ' ' }}
          <code>{{ change.subject }}</code> {{ change.detail }}
        </summary>
        <pre
          tabindex="0"
        ><span v-for="(line, i) in lines(change.diff)" :key="i" :class="kind(change.diff, line)">{{ line || ' ' }}
</span></pre>
      </details>
      <p v-else>
        <b>{{ part(change.part) }}</b> <span v-if="change.account">{{ change.account }}</span>
        {{ ' ' }}
        <code>{{ change.subject }}</code> {{ change.detail }}
      </p>
    </li>
  </ul>
</template>

<style scoped>
.changes {
  margin: 0;
  padding: 0;
  list-style: none;
  background: var(--sheet);
  border: 1px solid var(--line);
}
li {
  padding: 0.35rem 0.7rem;
  border-bottom: 1px solid var(--line-2);
  overflow-wrap: anywhere;
}
li:last-child {
  border-bottom: 0;
}
p {
  margin: 0 0 0 1.05rem;
}
summary {
  cursor: pointer;
}
pre {
  max-height: 22rem;
  margin: 0.4rem 0 0.2rem;
  padding: 0.4rem 0;
  overflow: auto;
  font: 12px/1.5 var(--mono);
  border-top: 1px solid var(--line-2);
}
pre span {
  display: block;
  padding: 0 0.6rem;
}
.add {
  background: color-mix(in srgb, var(--fill) 16%, transparent);
}
.cut {
  background: var(--signal-wash);
}
.at {
  color: var(--ink-2);
}
</style>
