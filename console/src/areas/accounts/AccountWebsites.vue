<script setup lang="ts">
import { computed, ref } from 'vue'
import { ElButton } from 'element-plus'
import WarningList from '../../parts/WarningList.vue'
import { may } from '../session/state'
import AddDomain from './AddDomain.vue'
import DomainTable from './DomainTable.vue'
import { useAccount } from './useAccount'

/** What each name of an account shows. */
const { name, data, open, after } = useAccount()
const adding = ref(false)
const sites = computed(() => data.value?.domains.filter((d) => d.served_as !== 'dns-only') ?? [])
</script>

<template>
  <template v-if="data">
    <WarningList :warnings="data.warnings.filter((w) => w.part === 'site')" :account="name" />
    <div class="titled">
      <h2>{{ $t('Websites') }}</h2>
      <ElButton v-if="open && may('domains.change')" @click="adding = true">{{ $t('Add a website') }}</ElButton>
    </div>
    <DomainTable :account="name" :domains="sites" :columns="['served_as', 'root', 'template', 'own', 'folders']">
      <template #empty
        ><div class="empty">
          <h2>{{ $t('No website yet') }}</h2>
          <p>{{ $t('Add a domain, and say which folder of the home it shows, or where it leads.') }}</p>
        </div></template
      >
    </DomainTable>
    <AddDomain v-model="adding" :account="data" @started="after" />
  </template>
</template>
