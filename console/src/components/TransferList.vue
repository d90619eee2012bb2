<script setup lang="ts">
import { ref } from 'vue'

import { asRefused, cancelTransfer, Refused, type Transfer } from '../api/client'
import { bytes, seconds } from '../format'
import ProblemNote from './ProblemNote.vue'
import { t } from '../i18n'

defineProps<{ transfers: Transfer[] }>()

const problem = ref<Refused | null>(null)
const COLOURS: Record<Transfer['state'], string | undefined> = {
  waiting: undefined,
  running: 'info',
  done: 'success',
  failed: 'error',
  cancelled: 'warning',
}

const isRunning = (transfer: Transfer) => ['waiting', 'running'].includes(transfer.state)
const share = (transfer: Transfer) => (100 * transfer.done_bytes) / Math.max(transfer.total_bytes, 1)

/** Its progress, or its result. */
function told(transfer: Transfer): string {
  if (!isRunning(transfer)) return transfer.outcome ?? t(`transfers.${transfer.state}`)
  const parts = [t('transfers.progress', { done: bytes(transfer.done_bytes), all: bytes(transfer.total_bytes) })]
  if (transfer.rate) parts.push(t('transfers.rate', { rate: bytes(Math.round(transfer.rate)) }))
  if (transfer.seconds_left) parts.push(t('transfers.left', { time: seconds(transfer.seconds_left) }))
  if (transfer.stage) parts.push(transfer.stage)
  if (transfer.file) parts.push(transfer.file)
  return parts.join(', ')
}

async function cancel(id: string) {
  problem.value = null
  await cancelTransfer(id).catch((error) => (problem.value = asRefused(error)))
}
</script>

<template>
  <v-card class="pa-4" :aria-label="$t('transfers.title')">
    <div class="text-title-medium font-weight-bold mb-2">{{ $t('transfers.title') }}</div>
    <ProblemNote v-if="problem" class="mb-2" :problem="problem" />
    <div v-for="transfer in transfers" :key="transfer.id" class="py-1" :data-transfer="transfer.state">
      <div class="d-flex flex-wrap align-center ga-2 text-body-medium">
        <v-chip size="x-small" variant="tonal" :color="COLOURS[transfer.state]">{{ $t(`transfers.${transfer.state}`) }}</v-chip>
        <span>{{ $t(`transfers.${transfer.kind}`) }} <b>{{ transfer.about }}</b></span>
        <span class="text-medium-emphasis figures">{{ told(transfer) }}</span>
        <v-spacer />
        <v-btn v-if="isRunning(transfer)" size="x-small" variant="outlined" @click="cancel(transfer.id)">
          {{ $t('transfers.cancel') }}
        </v-btn>
      </div>
      <v-progress-linear v-if="isRunning(transfer)" class="mt-1" color="primary" :aria-label="transfer.about" :model-value="share(transfer)" />
      <ul v-if="isRunning(transfer) && (transfer.files?.length ?? 0) > 1" class="files text-body-small">
        <li v-for="file in transfer.files" :key="file.name">
          {{ $t('transfers.file', { name: file.name, done: bytes(file.done_bytes), all: bytes(file.total_bytes) }) }}
        </li>
      </ul>
      <ProblemNote v-if="transfer.problem" class="mt-1" :problem="new Refused(transfer.problem)" />
    </div>
  </v-card>
</template>

<style scoped>
.files {
  margin: 2px 0 0;
  padding-left: 18px;
}
.figures {
  font-variant-numeric: tabular-nums;
}
</style>
