<script setup lang="ts">
import { ElButton } from 'element-plus'
import { useRouter } from 'vue-router'

/** Goes through the pages of a list by its cursors, and says how many are shown: “12 accounts”. */
defineProps<{ count: string; next?: string; first: boolean }>()
const emit = defineEmits<{ next: []; first: [] }>()
const router = useRouter()
</script>

<template>
  <div class="turner">
    <span class="quiet">{{ next || !first ? $t('{count} on this page', { count }) : count }}</span>
    <span v-if="next || !first" class="acts">
      <ElButton size="small" :disabled="first" @click="emit('first')">{{ $t('First') }}</ElButton>
      <ElButton size="small" :disabled="first" @click="router.back()">{{ $t('Back') }}</ElButton>
      <ElButton size="small" :disabled="!next" @click="emit('next')">{{ $t('Next page') }}</ElButton>
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
