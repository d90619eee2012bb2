<script setup lang="ts">
import type { LoadControls } from '../composables/useLoadForm'

/** The controls of the load form that are seldom moved. */
const controls = defineModel<LoadControls>({ required: true })

const PRECISIONS = ['f16', 'q8_0', 'f32']
const IDLE_LIMITS = ['never', 'answered', '1m', '10m', '1h']
</script>

<template>
  <div class="options">
    <v-select v-model="controls.keys" label="Cached keys" :items="PRECISIONS" density="compact" hide-details />
    <v-select v-model="controls.values" label="Cached values" :items="PRECISIONS" density="compact" hide-details />
    <v-number-input
      v-model="controls.chunk"
      label="Chunk"
      :min="1"
      :max="4096"
      :step="64"
    />
    <v-number-input
      v-model="controls.cacheTokens"
      label="Tokens of all lanes (every context)"
      :min="1"
      :step="1024"
      clearable
    />
    <v-number-input
      v-model="controls.threads"
      label="Threads (all)"
      :min="1"
      :max="256"
      clearable
    />
    <v-number-input
      v-model="controls.priority"
      label="Priority"
    />
    <v-number-input
      v-model="controls.share"
      label="Share of the processor"
      :min="1"
      :max="10000"
    />
    <v-select v-model="controls.idle" label="Unload when idle" :items="IDLE_LIMITS" density="compact" hide-details />
    <v-checkbox v-model="controls.pinned" label="Pinned" density="compact" hide-details />
    <v-checkbox v-model="controls.resident" label="Weights locked in memory" density="compact" hide-details />
  </div>
</template>

<style scoped>
.options {
  display: grid;
  grid-template-columns: repeat(2, minmax(0, 1fr));
  gap: 12px;
}
</style>
