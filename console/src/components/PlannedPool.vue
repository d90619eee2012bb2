<script setup lang="ts">
import { computed } from 'vue'

import type { PlanPart, PoolPlan } from '../api/client'
import { bytes } from '../format'

/** A pool with a planned load; `refused` are the parts of a load that does not fit. */
const props = defineProps<{ pool: PoolPlan; refused?: PlanPart[] }>()

/** Shares of the limit: held now, and what this load would add. */
const shares = computed(() => {
  const share = (bytes: number) => Math.min((100 * bytes) / props.pool.limit, 100)
  const wanted = props.refused?.reduce((sum, part) => sum + part.bytes, 0)
  return { held: share(props.pool.reserved), added: share(wanted ?? props.pool.after - props.pool.reserved) }
})
const over = computed(() => !!props.refused && shares.value.held + shares.value.added > 99.9)
</script>

<template>
  <div :aria-label="$t('pool.withThisLoad', { name: pool.name })">
    <div class="bar">
      <div class="held" :style="{ width: `${shares.held}%` }" />
      <div class="added" :class="{ over }" :style="{ width: `${shares.added}%` }" />
    </div>
    <div class="text-body-small text-medium-emphasis mt-1">
      {{
        $t(pool.simulated ? 'pool.reservedNowSimulated' : 'pool.reservedNow', {
          name: pool.name,
          reserved: bytes(pool.reserved),
          limit: bytes(pool.limit),
        })
      }}
    </div>
  </div>
</template>

<style scoped>
.bar {
  display: flex;
  height: 14px;
  overflow: hidden;
  border-radius: 7px;
  background: rgba(var(--v-theme-on-surface), 0.08);
}
.held {
  background: rgba(var(--v-theme-on-surface), 0.35);
}
.added {
  background: rgb(var(--v-theme-primary));
  transition: width 120ms;
}
.over {
  background: rgb(var(--v-theme-error));
}
</style>
