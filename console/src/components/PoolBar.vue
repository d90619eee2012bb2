<script setup lang="ts">
import { computed, ref } from 'vue'

import type { Instance, Pool, Refused } from '../api/client'
import { bytes } from '../format'
import { segments as segmentsOf } from '../pools'
import PoolLimit from './PoolLimit.vue'
import ProblemNote from './ProblemNote.vue'
import TermHint from './TermHint.vue'

const props = defineProps<{ pool: Pool; instances: Instance[] }>()

const problem = ref<Refused | null>(null)
/** The bar shows all reserved memory, also where a limit was lowered below it. */
const whole = computed(() => Math.max(props.pool.limit, props.pool.reserved))
/** Instances as shares of the pool; something shows however small it is. */
const segments = computed(() =>
  segmentsOf(props.pool.name, props.instances).map((segment) => ({
    ...segment,
    share: Math.max((100 * segment.bytes) / whole.value, 0.6),
  })),
)
const free = computed(() => Math.max(props.pool.limit - props.pool.reserved, 0))
const excess = computed(() => props.pool.reserved - props.pool.limit)
</script>

<template>
  <v-card class="pa-4" :aria-label="$t('pool.label', { name: pool.name })">
    <div class="d-flex flex-wrap align-center ga-3 mb-3">
      <span class="text-title-medium font-weight-bold">{{ pool.name }}</span>
      <PoolLimit :pool="pool" @refused="problem = $event" />
      <v-chip v-if="pool.simulated" size="small" variant="tonal" color="info">
        {{ pool.speed ? $t('pool.simulatedSpeed', { speed: bytes(pool.speed) }) : $t('pool.simulated') }}
      </v-chip>
      <span class="text-body-medium text-medium-emphasis">
        <TermHint
          :term="$t('pool.amounts', { reserved: bytes(pool.reserved), measured: bytes(pool.measured), limit: bytes(pool.limit) })"
          :hint="$t('hints.reserved')"
        />
      </span>
      <span v-if="excess > 0" class="text-error text-body-medium">
        {{ $t('pool.above', { excess: bytes(excess) }) }}
      </span>
    </div>
    <ProblemNote v-if="problem" class="mb-3" :problem="problem" />
    <div class="bar" role="img" :aria-label="$t('pool.freeOf', { free: bytes(free), limit: bytes(pool.limit) })">
      <div
        v-for="segment in segments"
        :key="segment.id"
        class="segment"
        :style="{ width: `${segment.share}%`, background: segment.hue }"
      >
        <v-tooltip activator="parent" location="top" :text="$t('pool.segment', { title: segment.title, bytes: bytes(segment.bytes) })" />
        <span v-if="segment.share > 12" class="label">{{ segment.title }}</span>
      </div>
      <span class="free">{{ $t('pool.free', { free: bytes(free) }) }}</span>
    </div>
    <div class="d-flex flex-wrap ga-4 mt-3 text-body-small">
      <span v-for="segment in segments" :key="segment.id" class="d-flex align-center ga-1">
        <span class="dot" :style="{ background: segment.hue }" />{{ segment.title }}
        <span class="text-medium-emphasis">{{ bytes(segment.bytes) }}</span>
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
