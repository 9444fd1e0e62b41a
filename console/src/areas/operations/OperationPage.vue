<script setup lang="ts">
import { computed } from 'vue'
import { useOperation } from '../../composables/useOperation'
import { moment } from '../../words'
import FactList from '../../parts/FactList.vue'
import NotHere from '../../parts/NotHere.vue'
import PageHead from '../../parts/PageHead.vue'
import StateMark from '../../parts/StateMark.vue'
import StepList from '../../parts/StepList.vue'

const props = defineProps<{ operation: string }>()
const { operation: data, refusal } = useOperation(computed(() => Number(props.operation)))

const facts = computed<[string, string][]>(() => {
  const o = data.value
  return o
    ? [
        ['Asked for by', o.actor],
        ['Asked for', moment(o.created_at)],
        ['Begun', moment(o.started_at)],
        ['Ended', o.finished_at ? moment(o.finished_at) : 'not yet'],
      ]
    : []
})
</script>

<template>
  <NotHere v-if="!data && refusal" :refusal="refusal" to="/operations" label="All operations" />
  <template v-if="data">
    <PageHead :title="data.subject" :about="`${data.kind}, operation ${data.id}`">
      <template #above><RouterLink to="/operations">Operations</RouterLink></template>
      <StateMark :state="data.state" />
    </PageHead>
    <div class="page">
      <section aria-label="Steps"><StepList :operation="data" /></section>
      <FactList :facts="facts" />
    </div>
  </template>
</template>

<style scoped>
.page {
  display: grid;
  grid-template-columns: minmax(0, 2fr) minmax(14rem, 1fr);
  gap: 2rem;
  align-items: start;
}
@media (max-width: 760px) {
  .page {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
