<script setup lang="ts">
import { computed, onScopeDispose, ref, watch } from 'vue'

import { asRefused, type History, history, type Refused } from '../api/client'
import { bytes, count } from '../format'
import { beginning, loadLines, memoryLines, rateLines } from '../history'
import HistoryChart from './HistoryChart.vue'
import ProblemNote from './ProblemNote.vue'

const SPANS = ['hour', 'day', 'week'] as const
const SECONDS = { hour: 3600, day: 86_400, week: 604_800 }
/** Shortest time that the charts show, in milliseconds. */
const LEAST = 120_000
/** Interval of the measurements. */
const LOOK_EVERY = 10_000

const span = ref<(typeof SPANS)[number]>('hour')
const found = ref<History | null>(null)
const problem = ref<Refused | null>(null)

async function look() {
  try {
    found.value = await history(span.value)
    problem.value = null
  } catch (error) {
    problem.value = asRefused(error)
  }
}

watch(span, look, { immediate: true })
const clock = setInterval(look, LOOK_EVERY)
onScopeDispose(() => clearInterval(clock))

const until = computed(() => Date.parse(found.value?.until ?? new Date().toISOString()))
/** Shortly after the start of the service the charts show only the time since then. */
const from = computed(() => {
  const whole = until.value - SECONDS[found.value?.span ?? 'hour'] * 1000
  const first = (found.value && beginning(found.value)) ?? whole
  return Math.min(Math.max(whole, first), until.value - LEAST)
})
const plain = (y: number) => count(Math.round(y * 10) / 10)
</script>

<template>
  <v-card class="pa-4" :aria-label="$t('history.title')">
    <div class="d-flex align-center flex-wrap ga-2 mb-2">
      <span class="text-title-medium font-weight-bold">{{ $t('history.title') }}</span>
      <v-spacer />
      <v-btn-toggle v-model="span" mandatory density="compact" variant="outlined" divided>
        <v-btn v-for="one in SPANS" :key="one" :value="one" size="small">{{ $t(`history.${one}`) }}</v-btn>
      </v-btn-toggle>
    </div>
    <ProblemNote v-if="problem" :problem="problem" />
    <div v-if="found" class="charts" :data-span="found.span">
      <HistoryChart :title="$t('history.memory')" binary :lines="memoryLines(found)" :from="from" :until="until" :value="bytes" />
      <HistoryChart :title="$t('history.speed')" :lines="rateLines(found)" :from="from" :until="until" :value="plain" />
      <HistoryChart :title="$t('history.load')" :lines="loadLines(found)" :from="from" :until="until" :value="plain" />
    </div>
  </v-card>
</template>

<style scoped>
.charts {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(280px, 1fr));
  gap: 16px;
}
</style>
