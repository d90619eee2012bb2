<script setup lang="ts">
import { ref } from 'vue'

import { asRefused, type Call, endCall, type Refused } from '../api/client'
import { count, seconds } from '../format'
import ConfirmButton from './ConfirmButton.vue'
import ProblemNote from './ProblemNote.vue'

defineProps<{ calls: Call[] }>()

const problem = ref<Refused | null>(null)
const STAGES: Record<Call['stage'], string> = {
  waiting: 'waiting',
  loading: 'loading the model',
  prompt: 'taking in the prompt',
  answering: 'answering',
  paused: 'paused for older calls',
}

/** Where a call stands, with the figures that are known. */
function told(call: Call): string {
  const parts = [STAGES[call.stage]]
  if (call.position != null) parts.push(`place ${call.position} in the queue`)
  if (call.share != null) parts.push(`${Math.round(call.share * 100)} %`)
  if (call.seconds_left != null) parts.push(`about ${Math.ceil(call.seconds_left)} s left`)
  if (call.prompt_tokens != null) parts.push(`prompt of ${count(call.prompt_tokens)} tokens`)
  if (call.answer_tokens > 0) parts.push(`${count(call.answer_tokens)} tokens answered`)
  if (call.first_token_seconds != null) parts.push(`first after ${seconds(call.first_token_seconds)}`)
  return parts.join(', ')
}

async function end(id: string) {
  problem.value = null
  await endCall(id).catch((error) => (problem.value = asRefused(error)))
}
</script>

<template>
  <v-card class="pa-4" aria-label="calls">
    <div class="text-title-medium font-weight-bold">
      Calls under way
      <span v-if="calls.length === 0" class="text-body-medium text-medium-emphasis">none</span>
    </div>
    <ProblemNote v-if="problem" class="my-2" :problem="problem" />
    <div v-for="call in calls" :key="call.id" class="py-1" :data-call="call.stage">
      <div class="d-flex flex-wrap align-center ga-2 text-body-medium">
        <b>{{ call.name }}</b>
        <span>{{ call.caller }}</span>
        <v-chip v-if="call.priority !== 'usual'" size="x-small" label>{{ call.priority }}</v-chip>
        <span class="text-medium-emphasis figures">{{ told(call) }}</span>
        <v-spacer />
        <ConfirmButton
          label="End"
          size="x-small"
          :question="`End this call of ${call.caller}? Its caller gets an error.`"
          @confirmed="end(call.id)"
        />
      </div>
      <v-progress-linear v-if="call.share != null" class="mt-1" color="primary" :model-value="call.share * 100" />
    </div>
  </v-card>
</template>

<style scoped>
.figures {
  font-variant-numeric: tabular-nums;
}
</style>
