<script setup lang="ts">
import { computed } from 'vue'
import { useOperation } from '../../composables/useOperation'
import { moment } from '../../words'
import FactList from '../../parts/FactList.vue'
import NotHere from '../../parts/NotHere.vue'
import PageHead from '../../parts/PageHead.vue'
import StateMark from '../../parts/StateMark.vue'
import StepList from '../../parts/StepList.vue'
import { t } from '../../language'

const props = defineProps<{ operation: string }>()
const { operation: data, refusal } = useOperation(computed(() => Number(props.operation)))

const facts = computed<[string, string][]>(() => {
  const o = data.value
  return o
    ? [
        [t('Asked for by'), o.actor],
        [t('Asked for'), moment(o.created_at)],
        [t('Begun'), moment(o.started_at)],
        [t('Ended'), o.finished_at ? moment(o.finished_at) : t('not yet')],
      ]
    : []
})
</script>

<template>
  <NotHere v-if="!data && refusal" :refusal="refusal" to="/operations" :label="$t('All operations')" />
  <template v-if="data">
    <PageHead :title="data.subject" :about="$t('{title}, operation {id}', { title: data.title, id: data.id })">
      <template #above
        ><RouterLink to="/operations">{{ $t('Operations') }}</RouterLink></template
      >
      <StateMark :state="data.state" />
    </PageHead>
    <div class="page">
      <section :aria-label="$t('Steps')"><StepList :operation="data" /></section>
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
