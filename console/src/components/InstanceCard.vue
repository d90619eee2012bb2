<script setup lang="ts">
import { computed } from 'vue'

import { type Instance, Refused } from '../api/client'
import { bytes, count, day, seconds } from '../format'
import { title } from '../pools'
import ConfirmButton from './ConfirmButton.vue'
import FigureTable from './FigureTable.vue'
import ProblemNote from './ProblemNote.vue'

const props = defineProps<{ instance: Instance; busy: boolean }>()
const emit = defineEmits<{ unload: [id: string]; again: [id: string]; settings: [instance: Instance] }>()

const COLOURS: Record<Instance['state'], string> = {
  loading: 'info',
  ready: 'success',
  draining: 'warning',
  restarting: 'warning',
  failed: 'error',
  displaced: 'warning',
}

/** The state; while it is loading, with how far that is. */
const stateText = computed(() => {
  const { state, load_share: share } = props.instance
  return share == null ? state : `${state} ${Math.round(share * 100)} %`
})

/** One precision, or that of keys and that of values. */
const cache = computed(() => {
  const { cache: keys, cache_values: values } = props.instance.settings
  return keys === values ? keys : `${keys} / ${values}`
})

/** Lanes, and the pages of the cache that they have. */
const work = computed(() => {
  const { work, settings } = props.instance
  if (!work) return ''
  const paused = work.lanes_paused > 0 ? `, ${work.lanes_paused} paused` : ''
  return `${work.lanes_busy} of ${settings.lanes}${paused}; ${count(work.pages_used)} of ${count(work.pages)} pages`
})

/** What there is to tell; what is empty is left out. */
const lines = computed(() => all.value.filter(([, value]) => value))

const all = computed((): [string, string][] => [
  ['planned', bytes(props.instance.planned_bytes)],
  ['measured', props.instance.measured_bytes == null ? 'not yet' : bytes(props.instance.measured_bytes)],
  ['context', `${props.instance.settings.lanes} lanes x ${count(props.instance.settings.context)} tokens`],
  ['layers', props.instance.settings.pools?.join(', ') ?? ''],
  ['cache', cache.value],
  ['weights', props.instance.settings.weights ?? 'mapped'],
  ['prompt tokens', `${count(props.instance.prompt_tokens)}, ${count(props.instance.reused_tokens)} known before`],
  ['answer tokens', count(props.instance.answer_tokens)],
  ['idle limit', props.instance.settings.idle ?? 'never'],
  ['calls now', `${props.instance.calls}, ${props.instance.queued ?? 0} waiting`],
  ['lanes at work', work.value],
  ['loaded in', props.instance.load_seconds == null ? 'not yet' : seconds(props.instance.load_seconds)],
  ['process', props.instance.pid == null ? 'none' : `${props.instance.pid}, ${props.instance.kernels ?? ''}`],
])
</script>

<template>
  <v-card class="pa-4 h-100 d-flex flex-column" :data-instance="instance.name" :data-state="instance.state">
    <div class="d-flex align-center flex-wrap ga-2 mb-2">
      <span class="text-title-medium font-weight-bold">{{ title(instance) }}</span>
      <v-chip size="small" :color="COLOURS[instance.state]" variant="tonal">{{ stateText }}</v-chip>
      <v-chip size="small" variant="outlined">
        {{ instance.keeping === 'kept' ? 'kept' : 'on demand' }}{{ instance.settings.pinned ? ', pinned' : '' }}
      </v-chip>
    </div>
    <FigureTable class="text-body-medium" :figures="lines" />
    <details class="mt-2 text-body-small">
      <summary>planned, part by part</summary>
      <div v-for="part in instance.planned" :key="part.pool + part.part" class="d-flex justify-space-between">
        <span>{{ part.pool }}: {{ part.part }}</span><span>{{ bytes(part.bytes) }}</span>
      </div>
    </details>
    <v-alert v-if="instance.note" class="mt-2" density="compact" variant="tonal" type="warning">
      {{ instance.down_since ? `Down since ${day(instance.down_since)}: ` : '' }}{{ instance.note }}
    </v-alert>
    <ProblemNote v-if="instance.problem" class="mt-2" :problem="new Refused(instance.problem)" />
    <div class="d-flex ga-2 mt-auto pt-3">
      <v-btn
        v-if="instance.state === 'failed'"
        size="small"
        color="primary"
        variant="tonal"
        :loading="busy"
        @click="emit('again', instance.id)"
      >
        Try again
      </v-btn>
      <v-btn
        v-if="instance.state === 'ready'"
        size="small"
        color="primary"
        variant="tonal"
        :to="{ path: '/try', query: { model: instance.name } }"
      >
        Try it
      </v-btn>
      <v-btn size="small" variant="outlined" @click="emit('settings', instance)">Settings</v-btn>
      <ConfirmButton
        label="Unload"
        :question="`Unload ${title(instance)}? Running calls are answered first.`"
        :loading="busy"
        @confirmed="emit('unload', instance.id)"
      />
    </div>
  </v-card>
</template>

<style scoped>
summary {
  cursor: pointer;
}
</style>
