<script setup lang="ts">
import { ElButton } from 'element-plus'
import { useRouter } from 'vue-router'

/** Goes through the pages of a list by its cursors. */
defineProps<{ shown: number; what: string; next?: string; first: boolean }>()
const emit = defineEmits<{ next: []; first: [] }>()
const router = useRouter()
</script>

<template>
  <div class="turner">
    <span class="quiet">{{ shown }} {{ what }}{{ next || !first ? ' on this page' : '' }}</span>
    <span v-if="next || !first" class="acts">
      <ElButton size="small" :disabled="first" @click="emit('first')">First</ElButton>
      <ElButton size="small" :disabled="first" @click="router.back()">Back</ElButton>
      <ElButton size="small" :disabled="!next" @click="emit('next')">Next page</ElButton>
    </span>
  </div>
</template>

<style scoped>
.turner {
  display: flex;
  justify-content: space-between;
  align-items: center;
  min-height: 2.4rem;
}
</style>
