<script setup lang="ts">
import type { Schemas } from '../api/client'
import ChangeList from './ChangeList.vue'
import EffectList from './EffectList.vue'

/** What a change would do, before it is done. */
defineProps<{ preview: Schemas['Preview'] }>()
</script>

<template>
  <section class="preview" aria-live="polite">
    <h2>
      {{ $t('Would {summary}', { summary: preview.summary }) }}
      <span class="quiet">{{ $t('nothing has been done') }}</span>
    </h2>
    <ul v-if="preview.notes.length" class="notes">
      <li v-for="note in preview.notes" :key="note">{{ note }}</li>
    </ul>
    <table v-if="preview.records.some((r) => r.fields.length)">
      <caption class="unseen">
        {{
          $t('Values before and after')
        }}
      </caption>
      <tbody v-for="(record, n) in preview.records" :key="n">
        <tr v-for="field in record.fields" :key="field.name">
          <th scope="row">{{ field.title }}</th>
          <td>
            <del v-if="field.before">{{ field.before }}</del>
          </td>
          <td>
            <ins v-if="field.after" :class="{ changed: field.before }">{{ field.after }}</ins>
          </td>
        </tr>
      </tbody>
    </table>
    <EffectList v-if="preview.effects.length" :effects="preview.effects" />
    <p v-if="preview.steps.length" class="quiet">{{ $t('Steps: {steps}', { steps: preview.steps.join(', ') }) }}</p>
    <ChangeList v-if="preview.changes.length" :changes="preview.changes" />
  </section>
</template>

<style scoped>
.preview {
  margin: 0.9rem 0 0;
  padding: 0.8rem 1rem;
  background: var(--sheet);
  border: 1px dashed var(--ink-2);
}
table {
  border-collapse: collapse;
  margin: 0.4rem 0;
}
th {
  padding: 0.1rem 1rem 0.1rem 0;
  text-align: start;
  font-weight: 400;
  color: var(--ink-2);
}
td {
  padding: 0.1rem 0.8rem 0.1rem 0;
  overflow-wrap: anywhere;
}
del {
  color: var(--ink-2);
}
ins {
  font-weight: 600;
  text-decoration: none;
}
ins.changed::before {
  content: '→ ';
  font-weight: 400;
  color: var(--ink-2);
}
</style>
