<script setup lang="ts">
import { computed } from 'vue'

import type { Instance, Pool } from '../api/client'
import { bytes } from '../format'

const props = defineProps<{ pool: Pool; instances: Instance[] }>()

const HUES = ['#2d7f86', '#b5701a', '#5a7d4f', '#7c5a86', '#a8524a', '#4a6fa0']

/** Instances as shares of the pool's limit; something shows however small it is. */
const segments = computed(() =>
  props.instances
    .filter((instance) => instance.pool === props.pool.name && !['failed', 'displaced'].includes(instance.state))
    .map((instance, at) => ({
      id: instance.id,
      name: instance.name,
      planned: instance.planned_bytes,
      hue: HUES[at % HUES.length],
      share: Math.max((100 * instance.planned_bytes) / props.pool.limit, 0.6),
    })),
)
const free = computed(() => Math.max(props.pool.limit - props.pool.reserved, 0))
</script>

<template>
  <v-card class="pa-4" :aria-label="`pool ${pool.name}`">
    <div class="d-flex flex-wrap align-baseline ga-3 mb-3">
      <span class="text-title-medium font-weight-bold">{{ pool.name }}</span>
      <span class="text-body-medium text-medium-emphasis">
        {{ bytes(pool.reserved) }} planned, {{ bytes(pool.measured) }} measured, of {{ bytes(pool.limit) }}
      </span>
    </div>
    <div class="bar" role="img" :aria-label="`${bytes(free)} of ${bytes(pool.limit)} is free`">
      <div
        v-for="segment in segments"
        :key="segment.id"
        class="segment"
        :style="{ width: `${segment.share}%`, background: segment.hue }"
      >
        <v-tooltip activator="parent" location="top" :text="`${segment.name}: ${bytes(segment.planned)}`" />
        <span v-if="segment.share > 12" class="label">{{ segment.name }}</span>
      </div>
      <span class="free">{{ bytes(free) }} free</span>
    </div>
    <div class="d-flex flex-wrap ga-4 mt-3 text-body-small">
      <span v-for="segment in segments" :key="segment.id" class="d-flex align-center ga-1">
        <span class="dot" :style="{ background: segment.hue }" />{{ segment.name }}
        <span class="text-medium-emphasis">{{ bytes(segment.planned) }}</span>
      </span>
    </div>
  </v-card>
</template>

<style scoped>
.bar {
  display: flex;
  align-items: center;
  height: 44px;
  overflow: hidden;
  border-radius: 8px;
  background: rgba(var(--v-theme-on-surface), 0.08);
}
.segment {
  display: flex;
  align-items: center;
  height: 100%;
  flex-shrink: 0;
  padding-inline: 8px;
  border-right: 2px solid rgb(var(--v-theme-surface));
}
.label {
  overflow: hidden;
  color: #fff;
  font-size: 0.8rem;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.free {
  margin-left: auto;
  padding-inline: 12px;
  font-size: 0.8rem;
  opacity: 0.75;
  white-space: nowrap;
}
.dot {
  width: 10px;
  height: 10px;
  border-radius: 3px;
}
</style>
