<script setup lang="ts">
import { ElButton, ElDialog } from 'element-plus'
import type { Schemas } from '../../api/client'
import { useCopy } from '../../composables/useCopy'

/** Ready lines that connect with a database. */
const props = defineProps<{ database: Schemas['Database'] }>()
const emit = defineEmits<{ closed: [] }>()
const lines = props.database.connect.map((line) => ({ ...line, ...useCopy(() => line.text) }))
</script>

<template>
  <ElDialog
    :model-value="true"
    :title="$t('Connect with {name}', { name: database.name })"
    width="min(44rem, 94vw)"
    @close="emit('closed')"
  >
    <p class="quiet">
      {{ $t('From the account’s sites and shell. Put the user’s password in the place of PASSWORD.') }}
    </p>
    <template v-for="line in lines" :key="line.title">
      <h3>{{ line.title }}</h3>
      <div class="line">
        <code>{{ line.text }}</code>
        <ElButton size="small" :aria-label="$t('Copy {what}', { what: line.title })" @click="line.copy">{{
          line.copied.value ? $t('Copied') : $t('Copy')
        }}</ElButton>
      </div>
    </template>
  </ElDialog>
</template>

<style scoped>
h3 {
  margin: 0.9rem 0 0.2rem;
}
h3::first-letter {
  text-transform: uppercase;
}
.line {
  display: flex;
  gap: 0.6rem;
  align-items: start;
  justify-content: space-between;
}
.line code {
  overflow-wrap: anywhere;
}
</style>
