<script setup lang="ts">
import { ElOption, ElSelect } from 'element-plus'
import { languages, nameOf } from '../language'

/** Picks a language, each called as those call it who speak it. */
const tag = defineModel<string>({ required: true })
defineProps<{ id: string }>()
</script>

<template>
  <ElSelect :id="id" v-model="tag"><ElOption v-for="l in languages" :key="l" :value="l" :label="nameOf(l)" /></ElSelect>
</template>
