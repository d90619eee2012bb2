<script setup lang="ts">
import { onScopeDispose, ref, watch } from 'vue'

import { asRefused, calls, type CallRecord, type Refused, type Status } from '../api/client'
import CallList from '../components/CallList.vue'
import ProblemNote from '../components/ProblemNote.vue'
import TraceList from '../components/TraceList.vue'
import { count, day, seconds } from '../format'

const props = defineProps<{ status: Status | null }>()

const finished = ref<CallRecord[]>([])
const problem = ref<Refused | null>(null)
const rate = (value?: number | null) => (value == null ? '' : `, ${count(Math.round(value))}/s`)

async function look() {
  try {
    finished.value = await calls(100)
    problem.value = null
  } catch (error) {
    problem.value = asRefused(error)
  }
}

// Whenever a call begins or ends; its record is written a moment later.
let timer: ReturnType<typeof setTimeout> | undefined
function lookSoon() {
  clearTimeout(timer)
  timer = setTimeout(look, 300)
}
watch(() => props.status?.calls?.map((call) => call.id).join(), lookSoon, { immediate: true })
onScopeDispose(() => clearTimeout(timer))

const HEADERS = [
  'arrived',
  'model',
  'caller',
  'result',
  'promptColumn',
  'answerColumn',
  'queued',
  'firstTokenColumn',
  'total',
]
</script>

<template>
  <div class="d-flex flex-column ga-4">
    <h1 class="text-headline-small font-weight-bold">{{ $t('pages.calls') }}</h1>
    <CallList :calls="status?.calls ?? []" />
    <ProblemNote v-if="problem" :problem="problem" />
    <TraceList :status="status" />
    <v-card class="pa-4" :aria-label="$t('calls.finished')">
      <div class="text-title-medium font-weight-bold mb-2">
        {{ $t('calls.finished') }}
        <span v-if="finished.length === 0" class="text-body-medium text-medium-emphasis">{{ $t('common.noneYet') }}</span>
      </div>
      <v-table v-if="finished.length > 0" density="compact">
        <thead>
          <tr>
            <th v-for="header in HEADERS" :key="header" scope="col">{{ $t(`calls.${header}`) }}</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="call in finished" :key="call.id" :data-outcome="call.outcome">
            <td class="moment">{{ day(call.arrived_at) }}</td>
            <td>{{ call.name }}</td>
            <td>{{ call.caller }}</td>
            <td>{{ call.outcome }}{{ call.detail ? `: ${call.detail}` : '' }}</td>
            <td>{{ count(call.prompt_tokens) }}{{ rate(call.prompt_rate) }}</td>
            <td>{{ count(call.answer_tokens) }}{{ rate(call.answer_rate) }}</td>
            <td>{{ seconds(call.queue_seconds ?? 0) }}</td>
            <td>{{ call.first_token_seconds == null ? '' : seconds(call.first_token_seconds) }}</td>
            <td>{{ seconds(call.total_seconds) }}</td>
          </tr>
        </tbody>
      </v-table>
    </v-card>
  </div>
</template>

<style scoped>
td {
  font-variant-numeric: tabular-nums;
}
.moment {
  white-space: nowrap;
}
</style>
