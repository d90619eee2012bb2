<script setup lang="ts">
import { mdiHelpCircleOutline } from '@mdi/js'

/** An explanation, shown on hover and on focus. */
defineProps<{ hint: string }>()
</script>

<template>
  <v-tooltip :text="hint" location="top" max-width="320">
    <template #activator="{ props: opener }">
      <span v-bind="opener" class="mark" tabindex="0" role="note" :aria-label="hint">
        <v-icon :icon="mdiHelpCircleOutline" size="14" />
      </span>
    </template>
  </v-tooltip>
</template>

<style scoped>
.mark {
  margin-left: 4px;
  opacity: 0.6;
  cursor: help;
}
</style>
