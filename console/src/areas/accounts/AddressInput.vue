<script setup lang="ts">
import { ElInput, ElOption, ElSelect } from 'element-plus'

/** A mail address of an account: what goes before the @ is typed, the domain chosen. */
defineProps<{ id: string; domains: { name: string; unicode: string }[] }>()
const local = defineModel<string>('local', { required: true })
const domain = defineModel<string>('domain', { required: true })
</script>

<template>
  <div class="address">
    <ElInput :id="id" v-model="local" spellcheck="false" autocomplete="off" autocapitalize="none" />
    <span aria-hidden="true">@</span>
    <ElSelect v-model="domain" :aria-label="$t('Domain')"
      ><ElOption v-for="d in domains" :key="d.name" :value="d.name" :label="d.unicode"
    /></ElSelect>
  </div>
</template>

<style scoped>
.address {
  display: grid;
  grid-template-columns: minmax(0, 1fr) auto minmax(0, 1.4fr);
  gap: 0.4rem;
  align-items: center;
}
</style>
