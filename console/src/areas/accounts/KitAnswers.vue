<script setup lang="ts">
import { ElInput, ElOption, ElSelect } from 'element-plus'
import type { Schemas } from '../../api/client'
import FormField from '../../parts/FormField.vue'

/** The questions of a kit. */
defineProps<{ asks: Schemas['Ask'][]; error: (field: string) => string | undefined; kept?: boolean }>()
const answers = defineModel<Record<string, string>>({ required: true })
</script>

<template>
  <FormField
    v-for="a in asks"
    :key="a.name"
    :label="a.title"
    :for="`kit-${a.name}`"
    :error="error(`answers.${a.name}`)"
    :hint="a.about"
  >
    <ElSelect v-if="a.kind === 'choice'" :id="`kit-${a.name}`" v-model="answers[a.name]">
      <ElOption v-for="c in a.choices" :key="c" :value="c" :label="c" />
    </ElSelect>
    <ElInput
      v-else-if="a.kind === 'secret'"
      :id="`kit-${a.name}`"
      v-model="answers[a.name]"
      type="password"
      show-password
      autocomplete="new-password"
      maxlength="200"
      :placeholder="kept ? $t('as it is') : ''"
    />
    <ElInput v-else :id="`kit-${a.name}`" v-model="answers[a.name]" maxlength="200" />
  </FormField>
</template>
