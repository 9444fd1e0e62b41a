<script setup lang="ts">
import type { Refusal } from '../api/client'
import PageHead from './PageHead.vue'
import ProblemNote from './ProblemNote.vue'

/** Stands for a page whose subject could not be read, and shows the way on. */
defineProps<{ refusal: Refusal; to: string; label: string }>()
</script>

<template>
  <PageHead :title="refusal.problem.title" />
  <ProblemNote :refusal="refusal"
    ><p>
      <RouterLink :to="to">{{ label }}</RouterLink>
    </p></ProblemNote
  >
</template>
