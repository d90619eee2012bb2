<script setup lang="ts">
defineProps<{ text: string }>()
</script>

<template>
  <div class="question">{{ text }}</div>
</template>

<style scoped>
.question {
  align-self: flex-end;
  max-width: 80%;
  padding: 8px 14px;
  border-radius: 12px 12px 2px 12px;
  background: rgba(var(--v-theme-primary), 0.14);
  white-space: pre-wrap;
}
</style>
