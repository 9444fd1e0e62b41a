<script setup lang="ts">
import { ref, shallowRef, watch } from 'vue'
import { ElOption, ElSelect } from 'element-plus'
import { api, ask, type Schemas } from '../api/client'

/**
 * Chooses a reseller by part of the name or title: there may be thousands. Empty is whatever the placeholder says;
 * with own, “-” stands for no reseller at all.
 */
const chosen = defineModel<string>({ required: true })
defineProps<{ id?: string; label?: string; placeholder: string; own?: string }>()

type Reseller = Pick<Schemas['Reseller'], 'name' | 'title'>
const found = shallowRef<Reseller[]>([])
const more = ref(false)
let newest = 0

async function find(text: string) {
  const mine = ++newest
  const page = await ask(
    api.GET('/api/v1/resellers', { params: { query: { search: text.trim() || undefined, limit: 30 } } }),
  )
  if (mine !== newest) return
  more.value = Boolean(page.next)
  found.value = page.resellers
}

// One that was chosen elsewhere, such as by a link, is called by its title, too.
watch(
  chosen,
  async (name) => {
    if (!name || name === '-' || found.value.some((r) => r.name === name)) return
    found.value = [
      await ask(api.GET('/api/v1/resellers/{reseller}', { params: { path: { reseller: name } } })).catch(() => ({
        name,
        title: name,
      })),
    ]
  },
  { immediate: true },
)
</script>

<template>
  <ElSelect
    :id="id"
    v-model="chosen"
    clearable
    filterable
    remote
    remote-show-suffix
    :remote-method="find"
    :placeholder="placeholder"
    :aria-label="label"
    @visible-change="(open: boolean) => open && find('')"
  >
    <ElOption v-if="own" value="-" :label="own" />
    <ElOption v-for="r in found" :key="r.name" :value="r.name" :label="r.title"
      >{{ r.title }} <span class="quiet">{{ r.name }}</span></ElOption
    >
    <ElOption v-if="more" value="more" :label="$t('more: type part of the name')" disabled />
  </ElSelect>
</template>
