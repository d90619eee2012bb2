<script setup lang="ts">
/** Names and figures, a line each. */
defineProps<{ figures: [name: string, value: string][] }>()
</script>

<template>
  <dl class="figures">
    <template v-for="[name, value] in figures" :key="name">
      <dt class="text-medium-emphasis">{{ name }}</dt>
      <dd>{{ value }}</dd>
    </template>
  </dl>
</template>

<style scoped>
.figures {
  display: grid;
  grid-template-columns: max-content 1fr;
  gap: 2px 16px;
}
dd {
  margin: 0;
  font-variant-numeric: tabular-nums;
}
</style>
