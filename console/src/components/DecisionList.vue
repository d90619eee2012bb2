<script setup lang="ts">
import type { Decision } from '../api/client'

defineProps<{ decisions: Decision[] }>()

const COLOURS: Record<string, string> = {
  refuse: 'error',
  'set aside': 'error',
  'load again': 'warning',
  displace: 'warning',
  wait: 'warning',
}

function clock(at: string): string {
  return new Date(at).toLocaleTimeString('en-GB')
}
</script>

<template>
  <v-card class="pa-4" aria-label="decisions">
    <div class="text-title-medium font-weight-bold mb-2">Decisions</div>
    <div v-if="decisions.length === 0" class="text-medium-emphasis">Nothing was decided yet.</div>
    <div v-for="(decision, at) in decisions" :key="at" class="decision text-body-small">
      <span class="text-medium-emphasis">{{ clock(decision.at) }}</span>
      <v-chip class="what" size="x-small" variant="tonal" :color="COLOURS[decision.what]">{{ decision.what }}</v-chip>
      <span><b>{{ decision.about }}</b> {{ decision.why }}</span>
    </div>
  </v-card>
</template>

<style scoped>
.decision {
  display: grid;
  grid-template-columns: 64px 88px 1fr;
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
