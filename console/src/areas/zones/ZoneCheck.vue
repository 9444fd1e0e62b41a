<script setup lang="ts">
import { computed } from 'vue'
import { ElButton } from 'element-plus'
import { api, ask, type Schemas } from '../../api/client'
import { useLoad } from '../../composables/useLoad'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import { t } from '../../language'
import { named } from '../../codes'

/** What public DNS shows of a zone, asked just now. */
const props = defineProps<{ zone: string }>()
const emit = defineEmits<{ close: [] }>()
const { data, refusal, loading, reload } = useLoad(() =>
  ask(api.GET('/api/v1/zones/{zone}/check', { params: { path: { zone: props.zone } } })),
)

const marks: Record<string, string> = { right: '✓', missing: '✕', different: '✕', waiting: '…', unknown: '?' }
const columns: Column<Schemas['ZoneSet']>[] = [
  { key: 'name', title: t('Name') },
  { key: 'type', title: t('Type'), text: (s) => s.type },
  { key: 'state', title: t('Public DNS says') },
  { key: 'wanted', title: t('Wanted'), long: true, wide: true },
  { key: 'seen', title: t('Seen instead'), long: true },
]
// What is wrong goes first.
const sets = computed(() =>
  [...(data.value?.sets ?? [])].sort((a, b) => Number(a.state === 'right') - Number(b.state === 'right')),
)
</script>

<template>
  <section class="public" aria-live="polite">
    <div class="titled">
      <h2>{{ $t('What public DNS shows') }}</h2>
      <span class="acts"
        ><ElButton size="small" :loading="loading" @click="reload">{{ $t('Ask again') }}</ElButton
        ><ElButton size="small" @click="emit('close')">{{ $t('Close') }}</ElButton></span
      >
    </div>
    <ProblemNote :refusal="refusal" />
    <p v-if="loading && !data" class="quiet">{{ $t('Asking the parent, the name servers and the resolver…') }}</p>
    <template v-if="data">
      <p :class="data.right ? 'good' : 'warn'">
        <b>{{ data.right ? '✓' : '✕' }} {{ data.verdict }}</b>
      </p>
      <dl v-if="data.problems.length">
        <template v-for="p in data.problems" :key="p.problem"
          ><dt>{{ p.problem }}</dt>
          <dd>→ {{ p.fix }}</dd></template
        >
      </dl>
      <p class="quiet">
        {{ $t('Delegated to {what}', { what: data.parent.seen.join(', ') || $t('nobody') })
        }}<template v-for="s in data.servers" :key="s.name + s.address"
          ><br />{{ s.failed ? '✕' : '✓' }} {{ s.name }} {{ s.address }}:
          {{ s.failed || $t('answers, serial {serial}', { serial: s.serial }) }}</template
        >
      </p>
      <DataTable :id="(s) => `${s.name} ${s.type}`" :columns="columns" :rows="sets" :caption="$t('Sets of records')">
        <template #name="{ row }"
          ><code>{{ row.name }}</code></template
        >
        <template #state="{ row }"
          ><span :class="{ warn: row.state !== 'right' && row.state !== 'waiting' }"
            >{{ marks[row.state] }} {{ named(row.state) }}</span
          >{{ ' ' }}<span v-if="row.until" class="quiet">{{ $t('for {what} s', { what: row.until }) }}</span></template
        >
        <template #wanted="{ row }"
          ><code class="whole">{{ row.wanted.join(', ') }}</code></template
        >
        <template #seen="{ row }"
          ><code class="whole">{{ row.seen.join(', ') }}</code></template
        >
      </DataTable>
    </template>
  </section>
</template>

<style scoped>
.public {
  padding: 0.6rem 0.9rem 0.9rem;
  background: var(--sheet);
  border: 1px solid var(--line);
}
dl {
  margin: 0 0 0.6rem;
}
dd {
  margin: 0 0 0.3rem 1.2rem;
}
.whole {
  overflow-wrap: anywhere;
}
</style>
