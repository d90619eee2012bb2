<script setup lang="ts">
import { ref } from 'vue'

import { asRefused, type Call, cancelCall, type Refused } from '../api/client'
import { count, seconds } from '../format'
import ConfirmButton from './ConfirmButton.vue'
import ProblemNote from './ProblemNote.vue'
import { t } from '../i18n'

defineProps<{ calls: Call[] }>()

const problem = ref<Refused | null>(null)

/** Stage and progress of a call, with its known figures. */
function told(call: Call): string {
  const parts = [t(`calls.${call.stage}`)]
  if (call.position != null) parts.push(t('calls.position', { position: call.position }))
  if (call.share != null) parts.push(t('calls.percent', { percent: Math.round(call.share * 100) }))
  if (call.seconds_left != null) parts.push(t('calls.left', { seconds: Math.ceil(call.seconds_left) }))
  if (call.prompt_tokens != null) parts.push(t('calls.promptTokens', { count: count(call.prompt_tokens) }))
  if (call.answer_tokens > 0) parts.push(t('calls.answerTokens', { count: count(call.answer_tokens) }))
  if (call.first_token_seconds != null) parts.push(t('calls.firstToken', { time: seconds(call.first_token_seconds) }))
  return parts.join(', ')
}

async function cancel(id: string) {
  problem.value = null
  await cancelCall(id).catch((error) => (problem.value = asRefused(error)))
}
</script>

<template>
  <v-card class="pa-4" :aria-label="$t('calls.running')">
    <div class="text-title-medium font-weight-bold">
      {{ $t('calls.running') }}
      <span v-if="calls.length === 0" class="text-body-medium text-medium-emphasis">{{ $t('common.none') }}</span>
    </div>
    <ProblemNote v-if="problem" class="my-2" :problem="problem" />
    <div v-for="call in calls" :key="call.id" class="py-1" :data-call="call.stage">
      <div class="d-flex flex-wrap align-center ga-2 text-body-medium">
        <b>{{ call.name }}</b>
        <span>{{ call.caller }}</span>
        <v-chip v-if="call.priority !== 'usual'" size="x-small" label>{{ $t(`calls.${call.priority}`) }}</v-chip>
        <span class="text-medium-emphasis figures">{{ told(call) }}</span>
        <v-spacer />
        <ConfirmButton
          :label="$t('calls.cancel')"
          size="x-small"
          :question="$t('calls.cancelQuestion', { caller: call.caller })"
          @confirmed="cancel(call.id)"
        />
      </div>
      <v-progress-linear
        v-if="call.share != null"
        class="mt-1"
        color="primary"
        :aria-label="told(call)"
        :model-value="call.share * 100"
      />
    </div>
  </v-card>
</template>

<style scoped>
.figures {
  font-variant-numeric: tabular-nums;
}
</style>
