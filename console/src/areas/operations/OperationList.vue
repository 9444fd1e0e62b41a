<script setup lang="ts">
import { computed } from 'vue'
import { ElOption, ElSelect } from 'element-plus'
import { api, ask, type Schemas } from '../../api/client'
import { useFilters } from '../../composables/useFilters'
import { useLoad } from '../../composables/useLoad'
import PageHead from '../../parts/PageHead.vue'
import PageTurner from '../../parts/PageTurner.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import { may } from '../session/state'
import OperationTable from './OperationTable.vue'
import { named } from '../../codes'

const { state, server, cursor } = useFilters('state', 'server', 'cursor')
const query = computed(() => ({
  state: (state.value || undefined) as Schemas['Operation']['state'] | undefined,
  server: server.value || undefined,
  cursor: cursor.value || undefined,
  limit: 50,
}))
const { data, refusal } = useLoad(() => ask(api.GET('/api/v1/operations', { params: { query: query.value } })), {
  on: query,
  live: true,
})
const { data: servers } = useLoad(async () => (may('servers.read') ? ask(api.GET('/api/v1/servers')) : undefined))
</script>

<template>
  <PageHead :title="$t('Operations')" :about="$t('Work in progress and done, newest first')" />
  <div class="filters">
    <ElSelect v-model="state" clearable :placeholder="$t('Any state')" :aria-label="$t('State')">
      <ElOption
        v-for="s in ['waiting', 'running', 'done', 'failed', 'cancelled']"
        :key="s"
        :value="s"
        :label="named(s)"
      />
    </ElSelect>
    <ElSelect v-if="servers" v-model="server" clearable :placeholder="$t('Any server')" :aria-label="$t('Server')">
      <ElOption v-for="s in servers?.servers" :key="s.label" :value="s.label" />
    </ElSelect>
  </div>
  <ProblemNote :refusal="refusal" />
  <OperationTable :operations="data?.operations ?? undefined">
    <template #empty
      ><div class="empty">
        <h2>{{ state || server ? $t('No operation fits') : $t('No operation yet') }}</h2>
        <p class="quiet">{{ $t('Opening an account or sweeping a server makes one.') }}</p>
      </div></template
    >
  </OperationTable>
  <PageTurner
    v-if="data?.operations?.length"
    :count="$t('{n} operation | {n} operations', { n: data.operations.length })"
    :next="data.next"
  />
</template>
