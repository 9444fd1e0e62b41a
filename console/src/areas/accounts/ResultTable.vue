<script setup lang="ts">
import type { Schemas } from '../../api/client'
import { useCopy } from '../../composables/useCopy'
import { csvOf } from './databases'

/** Rows of a table, or what a statement has led to. */
const props = defineProps<{ result: Schemas['StatementResult']; caption: string }>()
/** SQL's own word, in every language. */
const none = 'NULL'
const { copy, copied } = useCopy(() => csvOf(props.result))
</script>

<template>
  <p v-if="!result.columns?.length" class="quiet" role="status">
    {{ $t('{n} rows changed', { n: result.affected }) }}
  </p>
  <template v-else>
    <!-- eslint-disable-next-line vuejs-accessibility/no-static-element-interactions -- it scrolls -->
    <div class="frame" tabindex="0" role="region" :aria-label="caption">
      <table>
        <thead>
          <tr>
            <th v-for="(column, n) in result.columns" :key="n" scope="col">{{ column }}</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="(row, n) in result.rows" :key="n">
            <td v-for="(value, m) in row" :key="m">
              <span v-if="value == null" class="quiet">{{ none }}</span><template v-else>{{ value }}</template>
            </td>
          </tr>
        </tbody>
      </table>
    </div>
    <p class="quiet foot">
      {{ result.more ? $t('The first {n} rows; there are more.', { n: result.rows?.length ?? 0 }) : '' }}
      <button type="button" class="link" @click="copy">{{ copied ? $t('Copied') : $t('Copy as CSV') }}</button>
    </p>
  </template>
</template>

<style scoped>
.frame {
  width: max-content;
  max-width: 100%;
  max-height: 24rem;
  background: var(--sheet);
  overflow: auto;
  border: 1px solid var(--line);
}
table {
  border-collapse: collapse;
  font-family: var(--mono, monospace);
  font-size: 0.85rem;
}
th,
td {
  max-width: 24rem;
  padding: 0.2rem 0.7rem;
  overflow: hidden;
  text-align: start;
  text-overflow: ellipsis;
  white-space: pre;
  border-bottom: 1px solid var(--line);
}
th {
  position: sticky;
  top: 0;
  background: var(--sheet);
}
.foot {
  margin-top: 0.3rem;
}
</style>
