<script setup lang="ts">
import { ElButton } from 'element-plus'
import { api, ask, type Schemas } from '../../api/client'
import { useAct } from '../../composables/useAct'
import { useLoad } from '../../composables/useLoad'
import { ago } from '../../words'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import { t } from '../../language'

const { data, reload } = useLoad(() => ask(api.GET('/api/v1/sessions')))
const { refusal, act } = useAct()
const end = (id: number) =>
  act(async () => {
    await ask(api.DELETE('/api/v1/sessions/{number}', { params: { path: { number: id } } }))
    await reload()
  })
type Open = Schemas['OpenSession']
const columns: Column<Open>[] = [
  { key: 'address', title: t('From'), text: (s) => s.address },
  { key: 'program', title: t('Program'), long: true },
  { key: 'seen', title: t('Last used'), text: (s) => ago(s.seen_at) },
  { key: 'end', title: '', right: true },
]
/** The part of a browser's name that people know it by. */
const short = (program: string) =>
  /(Firefox|Edg|OPR|Chrome|Safari)\/[\d]+/
    .exec(program)?.[0]
    .replace('Edg', 'Edge')
    .replace('OPR', 'Opera')
    .replace('/', ' ') ?? program
</script>

<template>
  <section>
    <h2>{{ $t('Sessions') }}</h2>
    <ProblemNote :refusal="refusal" />
    <DataTable :id="(s) => s.id" :columns="columns" :rows="data?.sessions" :caption="$t('Your sessions')">
      <template #program="{ row }"
        ><span :title="row.program">{{ short(row.program) }}</span></template
      >
      <template #end="{ row }"
        ><span v-if="row.this" class="quiet">{{ $t('this one') }}</span
        ><ElButton v-else size="small" @click="end(row.id)">{{ $t('End') }}</ElButton></template
      >
    </DataTable>
  </section>
</template>
