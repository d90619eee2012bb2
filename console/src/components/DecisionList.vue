<script setup lang="ts">
import type { Decision } from '../api/client'
import { clock } from '../format'

defineProps<{ decisions: Decision[] }>()

const COLOURS: Record<string, string> = {
  refuse: 'error',
  fail: 'error',
  restart: 'warning',
  evict: 'warning',
  wait: 'warning',
}

</script>

<template>
  <v-card class="pa-4" :aria-label="$t('decisions.title')">
    <div class="text-title-medium font-weight-bold mb-2">{{ $t('decisions.title') }}</div>
    <div v-if="decisions.length === 0" class="text-medium-emphasis">{{ $t('decisions.none') }}</div>
    <div v-for="(decision, at) in decisions" :key="at" class="decision text-body-small">
      <span class="text-medium-emphasis">{{ clock(decision.at) }}</span>
      <v-chip class="what" size="x-small" variant="tonal" :color="COLOURS[decision.what]">{{ $t(`decisions.${decision.what}`) }}</v-chip>
      <span><b>{{ decision.about }}</b> {{ decision.why }}</span>
    </div>
  </v-card>
</template>

<style scoped>
.decision {
  display: grid;
  grid-template-columns: 92px 88px 1fr;
  align-items: baseline;
  gap: 8px;
  padding-block: 3px;
  font-variant-numeric: tabular-nums;
  overflow-wrap: anywhere;
}
.what {
  justify-self: start;
}
</style>
