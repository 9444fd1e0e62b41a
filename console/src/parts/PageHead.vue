<script setup lang="ts">
/** A page's title, what it is about, and what can be done here. */
defineProps<{ title: string; about?: string }>()
</script>

<template>
  <div class="head">
    <div>
      <slot name="above" />
      <h1>{{ title }}</h1>
      <p v-if="about" class="quiet">{{ about }}</p>
    </div>
    <div class="acts"><slot /></div>
  </div>
</template>

<style scoped>
.head {
  display: flex;
  flex-wrap: wrap;
  align-items: end;
  justify-content: space-between;
  gap: 0.6rem 1.5rem;
  margin-bottom: 0.9rem;
  padding-bottom: 0.6rem;
  border-bottom: 3px double var(--line);
}
h1 {
  overflow-wrap: anywhere;
}
p {
  margin: 0.15rem 0 0;
}
.acts {
  display: flex;
  flex-wrap: wrap;
  gap: 0.5rem;
}
.acts :deep(.el-button + .el-button) {
  margin-inline-start: 0;
}
</style>
