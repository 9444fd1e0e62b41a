<script setup lang="ts">
import { language, languages, nameOf } from '../language'

/** Offers the languages of the console, each in its own words. */
const emit = defineEmits<{ choose: [tag: string] }>()
</script>

<template>
  <div class="languages" role="group" :aria-label="$t('Language')">
    <button
      v-for="tag in languages"
      :key="tag"
      type="button"
      class="link"
      :lang="tag"
      :aria-pressed="tag === language"
      @click="emit('choose', tag)"
    >
      {{ nameOf(tag) }}
    </button>
  </div>
</template>

<style scoped>
.languages {
  display: flex;
  flex-wrap: wrap;
  gap: 0.2rem 0.9rem;
}
button[aria-pressed='true'] {
  color: var(--ink);
  font-weight: 600;
  text-decoration: none;
}
</style>
