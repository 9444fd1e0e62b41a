<script setup lang="ts">
import { computed } from 'vue'
import { ElButton } from 'element-plus'
import { useRoute, useRouter } from 'vue-router'

/**
 * Goes through the pages of a list by its cursors, which are in the address, and says how many are
 * shown: “12 accounts”.
 */
defineProps<{ count: string; next?: string }>()
const route = useRoute()
const router = useRouter()
const first = computed(() => !route.query.cursor)
const show = (cursor?: string) => router.push({ query: { ...route.query, cursor } })
</script>

<template>
  <div class="turner">
    <span class="quiet">{{ next || !first ? $t('{count} on this page', { count }) : count }}</span>
    <span v-if="next || !first" class="acts">
      <ElButton size="small" :disabled="first" @click="show()">{{ $t('First') }}</ElButton>
      <ElButton size="small" :disabled="first" @click="router.back()">{{ $t('Back') }}</ElButton>
      <ElButton size="small" :disabled="!next" @click="show(next)">{{ $t('Next page') }}</ElButton>
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
