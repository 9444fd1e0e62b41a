<script setup lang="ts">
/** The few facts people look for first, beside each other; each is a {@link StripFact}. */
</script>

<template>
  <div class="strip"><slot /></div>
</template>

<style scoped>
.strip {
  display: flex;
  flex-wrap: wrap;
  gap: 0.7rem 2.4rem;
  margin-bottom: 1.2rem;
}
</style>
