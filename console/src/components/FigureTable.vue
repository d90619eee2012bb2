<script lang="ts">
/** Name, value, and the explanation of a term. */
export type Figure = [name: string, value: string, hint?: string]
</script>

<script setup lang="ts">
import TermHint from './TermHint.vue'

/** Names and figures, a line each. */
defineProps<{ figures: Figure[] }>()
</script>

<template>
  <dl class="figures">
    <template v-for="[name, value, hint] in figures" :key="name">
      <dt class="text-medium-emphasis">
        <TermHint v-if="hint" :term="name" :hint="hint" />
        <template v-else>{{ name }}</template>
      </dt>
      <dd>{{ value }}</dd>
    </template>
  </dl>
</template>

<style scoped>
.figures {
  display: grid;
  margin: 0;
  grid-template-columns: max-content 1fr;
  gap: 2px 16px;
}
dd {
  margin: 0;
  font-variant-numeric: tabular-nums;
}
</style>
