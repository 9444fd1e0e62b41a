<script setup lang="ts">
import { ref, watch } from 'vue'
import { ElOption, ElSelect } from 'element-plus'
import { api, ask } from '../api/client'
import { isOperator } from '../areas/session/state'

/** Chooses a customer by part of the name: those of one reseller, or the operator's own. */
const name = defineModel<string>({ required: true })
const props = defineProps<{ id: string; reseller?: string }>()
const customers = ref<string[]>([])

async function find(text: string) {
  const page = await ask(
    api.GET('/api/v1/customers', {
      params: {
        query: {
          search: text.trim(),
          limit: 20,
          reseller: props.reseller || undefined,
          own: (isOperator.value && !props.reseller) || undefined,
        },
      },
    }),
  )
  customers.value = (page.customers ?? []).map((c) => c.name)
}
watch(
  () => props.reseller,
  () => void find(''),
  { immediate: true },
)
</script>

<template>
  <ElSelect :id="id" v-model="name" filterable remote :remote-method="find" :placeholder="$t('Type part of the name')">
    <ElOption v-for="customer in customers" :key="customer" :value="customer" />
  </ElSelect>
</template>
