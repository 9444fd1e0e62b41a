<script setup lang="ts">
import { ref, shallowRef, watch } from 'vue'
import { ElOption, ElSelect } from 'element-plus'
import { api, ask, type Schemas } from '../api/client'
import { refOf } from '../areas/plans/names'
import { size } from '../words'

/**
 * Chooses a plan by part of its name. With whose, only plans on which an account of that reseller's customers can be:
 * theirs and the operator's; “” is the operator's own customers.
 */
const chosen = defineModel<string>({ required: true })
const props = defineProps<{ id?: string; label?: string; placeholder: string; clearable?: boolean; whose?: string }>()
const emit = defineEmits<{ plan: [plan: Schemas['Plan'] | undefined] }>()

const found = shallowRef<Schemas['Plan'][]>([])
const more = ref(false)
let newest = 0

async function find(text: string) {
  const mine = ++newest
  const narrowed = props.whose === undefined ? {} : { own: true, reseller: props.whose || undefined }
  const page = await ask(
    api.GET('/api/v1/plans', { params: { query: { search: text.trim() || undefined, limit: 50, ...narrowed } } }),
  )
  if (mine !== newest) return
  more.value = Boolean(page.next)
  found.value = page.plans
}
watch(chosen, (ref) =>
  emit(
    'plan',
    found.value.find((p) => refOf(p) === ref),
  ),
)
</script>

<template>
  <ElSelect
    :id="id"
    v-model="chosen"
    :clearable="clearable"
    filterable
    remote
    remote-show-suffix
    :remote-method="find"
    :placeholder="placeholder"
    :aria-label="label"
    @visible-change="(open: boolean) => open && find('')"
  >
    <ElOption v-for="p in found" :key="refOf(p)" :value="refOf(p)" :label="refOf(p)"
      >{{ refOf(p) }} <span class="quiet">{{ size(p.limits.disk) }}</span></ElOption
    >
    <ElOption v-if="more" value="more" :label="$t('more: type part of the name')" disabled />
  </ElSelect>
</template>
