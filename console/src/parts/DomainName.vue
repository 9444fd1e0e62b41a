<script setup lang="ts">
import { computed } from 'vue'

/**
 * A name that may be broken into lines at its dots and hyphens, where people would break it. One of
 * usual length is not broken where there is room for a table with it.
 */
const props = defineProps<{ name: string }>()
const pieces = computed(() => props.name.split(/(?<=[.@-])/))
</script>

<template>
  <span :class="{ usual: name.length <= 32 }"
    ><template v-for="(piece, n) in pieces" :key="n"><wbr v-if="n" />{{ piece }}</template></span
  >
</template>

<style scoped>
@media (min-width: 761px) {
  .usual {
    white-space: nowrap;
  }
  .usual wbr {
    display: none;
  }
}
</style>
