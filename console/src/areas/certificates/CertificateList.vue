<script setup lang="ts">
import { computed } from 'vue'
import { ElButton, ElInput, ElOption, ElSelect } from 'element-plus'
import { api, ask } from '../../api/client'
import { useFilters } from '../../composables/useFilters'
import { useLoad } from '../../composables/useLoad'
import { useTyped } from '../../composables/useTyped'
import PageHead from '../../parts/PageHead.vue'
import PageTurner from '../../parts/PageTurner.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import { may } from '../session/state'
import CertificateTable from './CertificateTable.vue'
import { named } from '../../codes'

const { search, days, state, authority, cursor, filtered, clearFilters } = useFilters(
  'search',
  'days',
  'state',
  'authority',
  'cursor',
)
const typed = useTyped(search)
const states = ['failing', 'expired', 'ordered', 'self-signed', 'uploaded', 'valid'] as const
const query = computed(() => ({
  search: search.value || undefined,
  days: Number(days.value) || undefined,
  state: states.find((s) => s === state.value),
  authority: authority.value || undefined,
  cursor: cursor.value || undefined,
  limit: 50,
}))
const { data, refusal } = useLoad(() => ask(api.GET('/api/v1/certificates', { params: { query: query.value } })), {
  on: query,
  live: true,
})
const { data: authorities } = useLoad(async () =>
  may('authorities.read') ? await ask(api.GET('/api/v1/authorities')) : undefined,
)

function reset() {
  typed.value = ''
  clearFilters()
}
</script>

<template>
  <PageHead :title="$t('Certificates')"
    ><RouterLink v-if="may('authorities.read')" to="/authorities">{{ $t('Authorities') }}</RouterLink></PageHead
  >
  <div class="filters">
    <ElInput
      v-model="typed"
      type="search"
      clearable
      :placeholder="$t('Part of the domain')"
      :aria-label="$t('Search certificates')"
    />
    <ElSelect v-model="days" clearable :placeholder="$t('Ends any time')" :aria-label="$t('When they end')"
      ><ElOption v-for="d in ['7', '14', '30', '90']" :key="d" :value="d" :label="$t('ends within {d} days', { d })"
    /></ElSelect>
    <ElSelect
      v-if="authorities?.authorities.length"
      v-model="authority"
      clearable
      :placeholder="$t('Any authority')"
      :aria-label="$t('Authority')"
      ><ElOption v-for="a in authorities.authorities" :key="a.name" :value="a.name" :label="a.name"
    /></ElSelect>
    <ElSelect v-model="state" clearable :placeholder="$t('Any state')" :aria-label="$t('State')"
      ><ElOption v-for="s in states" :key="s" :value="s" :label="named(s)"
    /></ElSelect>
  </div>
  <ProblemNote :refusal="refusal" />
  <CertificateTable :certificates="data?.certificates">
    <template #empty>
      <div class="empty">
        <h2>{{ filtered ? $t('No site fits') : $t('There are no sites yet') }}</h2>
        <p v-if="filtered">
          <ElButton size="small" @click="reset">{{ $t('Clear filters') }}</ElButton>
        </p>
        <p v-else>{{ $t('Each site has a certificate from its first second on.') }}</p>
      </div>
    </template>
  </CertificateTable>
  <PageTurner
    v-if="data?.certificates.length"
    :count="$t('{n} site | {n} sites', { n: data.certificates.length })"
    :next="data.next"
  />
</template>
