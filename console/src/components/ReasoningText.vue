<script setup lang="ts">
import { seconds as duration } from '../format'

/** The model's reasoning, folded; `seconds` is how long it took. */
defineProps<{ text: string; seconds?: number; growing?: boolean }>()
</script>

<template>
  <details v-if="text" class="mb-3 text-medium-emphasis" data-reasoning>
    <summary class="text-body-small">
      {{ growing || seconds === undefined ? $t('answer.thinks') : $t('answer.thought', { time: duration(seconds) }) }}
    </summary>
    <div class="text mt-2 text-body-small">{{ text }}</div>
  </details>
</template>

<style scoped>
.text {
  white-space: pre-wrap;
  overflow-wrap: anywhere;
}
</style>
