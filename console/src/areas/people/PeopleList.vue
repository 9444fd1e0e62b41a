<script setup lang="ts">
import { computed } from 'vue'
import { ElInput, ElOption, ElSelect } from 'element-plus'
import { useFilters } from '../../composables/useFilters'
import { useTyped } from '../../composables/useTyped'
import PageHead from '../../parts/PageHead.vue'
import { isCustomer, isOperator, session } from '../session/state'
import PeopleTable from './PeopleTable.vue'
import { named } from '../../codes'

const { search, role } = useFilters('search', 'role')
const typed = useTyped(search)
const roles = computed(() =>
  isOperator.value
    ? (['operator', 'reseller', 'customer'] as const)
    : isCustomer.value
      ? []
      : (['reseller', 'customer'] as const),
)
const query = computed(() => ({
  search: search.value || undefined,
  role: (role.value || undefined) as 'operator' | 'reseller' | 'customer' | undefined,
}))
const origin = computed(() =>
  isOperator.value
    ? {}
    : isCustomer.value
      ? { customer: session.value?.customer_id }
      : { reseller: session.value?.reseller },
)
</script>

<template>
  <PageHead :title="$t('People')" :about="$t('Everybody who can sign in')" />
  <div class="filters">
    <ElInput
      v-model="typed"
      type="search"
      clearable
      :placeholder="$t('Part of a name or address')"
      :aria-label="$t('Search people')"
    />
    <ElSelect v-if="roles.length" v-model="role" clearable :placeholder="$t('Any role')" :aria-label="$t('Role')"
      ><ElOption v-for="r in roles" :key="r" :value="r" :label="named(r)"
    /></ElSelect>
  </div>
  <PeopleTable :query="query" :add="origin" :title="isOperator ? $t('Sign-ins') : $t('Who can sign in')" />
</template>
