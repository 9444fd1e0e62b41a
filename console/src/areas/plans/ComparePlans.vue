<script setup lang="ts">
import { computed } from 'vue'
import { ElCheckbox } from 'element-plus'
import { useRoute } from 'vue-router'
import { api, ask } from '../../api/client'
import { useFilters } from '../../composables/useFilters'
import { useLoad } from '../../composables/useLoad'
import { amount } from '../../words'
import NotHere from '../../parts/NotHere.vue'
import PageHead from '../../parts/PageHead.vue'

const route = useRoute()
const { differing } = useFilters('differing')
const names = computed(() => [route.query.plan ?? []].flat().map(String))
const { data, refusal } = useLoad(
  () => ask(api.GET('/api/v1/compare/plans', { params: { query: { plan: names.value } } })),
  { on: names },
)
const rows = computed(() => data.value?.rows.filter((r) => !differing.value || r.differs))
const differences = computed(() => data.value?.rows.filter((r) => r.differs).length ?? 0)
</script>

<template>
  <NotHere v-if="!data && refusal" :refusal="refusal" to="/plans" :label="$t('All plans')" />
  <template v-if="data">
    <PageHead
      :title="$t('Compare plans')"
      :about="
        differences
          ? $t('They differ in {differences} of {rows} lines, marked ≠', { differences, rows: data.rows.length })
          : $t('They are the same in everything')
      "
    >
      <template #above
        ><RouterLink to="/plans">{{ $t('Plans') }}</RouterLink></template
      >
      <ElCheckbox :model-value="Boolean(differing)" @change="(on) => (differing = on ? 'only' : '')">{{
        $t('Only what differs')
      }}</ElCheckbox>
    </PageHead>
    <div class="frame">
      <table>
        <thead>
          <tr>
            <th scope="col">
              <span class="unseen">{{ $t('Differs') }}</span>
            </th>
            <th scope="col">{{ $t('Limit or feature') }}</th>
            <th v-for="plan in data.plans" :key="plan" scope="col" class="right">
              <RouterLink :to="`/plans/${plan}`">{{ plan }}</RouterLink>
            </th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="row in rows" :key="row.limit ?? row.feature" :class="{ differs: row.differs }">
            <td class="mark">{{ row.differs ? '≠' : '' }}</td>
            <th scope="row">{{ row.title }}</th>
            <template v-if="row.amounts"
              ><td v-for="(n, i) in row.amounts" :key="i" class="right">
                {{ amount(n, row.unit ?? 'count') }}
              </td></template
            >
            <template v-else
              ><td v-for="(on, i) in row.on" :key="i" class="right" :class="{ quiet: !on }">
                {{ on ? $t('on') : $t('off') }}
              </td></template
            >
          </tr>
        </tbody>
      </table>
    </div>
  </template>
</template>

<style scoped>
.frame {
  overflow-x: auto;
  background: var(--sheet);
  border: 1px solid var(--line);
}
table {
  border-collapse: collapse;
  min-width: 100%;
}
thead th {
  border-bottom: 1px solid var(--ink-2);
}
th,
td {
  padding: 0.24rem 0.8rem;
  text-align: start;
  font-weight: 400;
  border-bottom: 1px solid var(--line-2);
  white-space: nowrap;
}
thead a {
  font-weight: 600;
}
.right {
  text-align: end;
}
.mark {
  padding-inline-end: 0;
  color: var(--signal);
  font-weight: 700;
}
.differs td:not(.quiet) {
  font-weight: 600;
}
</style>
