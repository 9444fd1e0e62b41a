<script setup lang="ts">
import { ref } from 'vue'
import { ElButton } from 'element-plus'
import { api, ask } from '../../api/client'
import { useLoad } from '../../composables/useLoad'
import { may } from '../session/state'
import AddDomain from './AddDomain.vue'
import DomainTable from './DomainTable.vue'
import { useAccount } from './useAccount'

/** Whose DNS the names of an account have, and which of them wait until it is shown whose they are. */
const { name, data, open, changed, after } = useAccount()
const adding = ref(false)
const { data: zones } = useLoad(
  () => ask(api.GET('/api/v1/zones', { params: { query: { account: name.value, limit: 200 } } })),
  { on: () => `${name.value} ${changed.value}`, live: true },
)
</script>

<template>
  <template v-if="data">
    <div class="titled">
      <h2>{{ $t('Domains and DNS') }}</h2>
      <ElButton v-if="open && may('domains.change')" @click="adding = true">{{ $t('Add a domain') }}</ElButton>
    </div>
    <DomainTable
      :account="name"
      :domains="data.domains"
      :zones="zones?.zones ?? []"
      :columns="['counts_as', 'served_as', 'zone', 'hosted', 'signed']"
    />
    <AddDomain v-model="adding" :account="data" @started="after" />
  </template>
</template>
