<script setup lang="ts">
import type { LoadControls } from '../composables/useLoadForm'

/** The less common settings of the load form. */
const controls = defineModel<LoadControls>({ required: true })

const PRECISIONS = ['f16', 'q8_0', 'f32']
const IDLE_LIMITS = ['never', 'answered', '1m', '10m', '1h']
</script>

<template>
  <div class="options">
    <v-select v-model="controls.keys" :label="$t('load.keys')" :hint="$t('hints.cache')" :items="PRECISIONS" density="compact" />
    <v-select v-model="controls.values" :label="$t('load.values')" :hint="$t('hints.cache')" :items="PRECISIONS" density="compact" />
    <v-number-input
      v-model="controls.chunk"
      :label="$t('load.chunk')"
      :hint="$t('hints.chunk')"
      :min="1"
      :max="4096"
      :step="64"
    />
    <v-number-input
      v-model="controls.cacheTokens"
      :label="$t('load.cacheTokens')"
      :hint="$t('hints.cacheTokens')"
      :min="1"
      :step="1024"
      clearable
    />
    <v-number-input
      v-model="controls.threads"
      :label="$t('load.threads')"
      :hint="$t('hints.threads')"
      :min="1"
      :max="256"
      clearable
    />
    <v-number-input
      v-model="controls.importance"
      :label="$t('load.importance')"
      :hint="$t('hints.importance')"
    />
    <v-number-input
      v-model="controls.share"
      :label="$t('load.share')"
      :hint="$t('hints.share')"
      :min="1"
      :max="10000"
    />
    <v-select v-model="controls.idle" :label="$t('load.idle')" :hint="$t('hints.idle')" :items="IDLE_LIMITS" density="compact" />
    <v-checkbox v-model="controls.pinned" :label="$t('load.pinned')" :hint="$t('hints.pinned')" density="compact" persistent-hint />
    <v-checkbox v-model="controls.resident" :label="$t('load.resident')" :hint="$t('hints.resident')" density="compact" persistent-hint />
  </div>
</template>

<style scoped>
.options {
  display: grid;
  grid-template-columns: repeat(2, minmax(0, 1fr));
  gap: 12px;
}
</style>
