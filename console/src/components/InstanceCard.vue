<script setup lang="ts">
import { computed } from 'vue'

import { type Instance, Refused } from '../api/client'
import { bytes, count, day, seconds } from '../format'
import { title } from '../pools'
import ConfirmButton from './ConfirmButton.vue'
import FigureTable, { type Figure } from './FigureTable.vue'
import ProblemNote from './ProblemNote.vue'
import { t } from '../i18n'

const props = defineProps<{ instance: Instance; busy: boolean }>()
const emit = defineEmits<{ unload: [id: string]; retry: [id: string]; settings: [instance: Instance] }>()

const COLOURS: Record<Instance['state'], string> = {
  loading: 'info',
  ready: 'success',
  draining: 'warning',
  restarting: 'warning',
  failed: 'error',
  evicted: 'warning',
}

/** The state; with its progress while it is loading. */
const stateText = computed(() => {
  const { state, load_share: share } = props.instance
  return share == null ? t(`states.${state}`) : t('states.loadingShare', { percent: Math.round(share * 100) })
})

/** The precision of keys and values, or both precisions. */
const cache = computed(() => {
  const { cache: keys, cache_values: values } = props.instance.settings
  return keys === values ? keys : `${keys} / ${values}`
})

/** Busy lanes, and the pages that they use. */
const work = computed(() => {
  const { work, settings } = props.instance
  if (!work) return ''
  return t(work.lanes_paused > 0 ? 'instance.workPaused' : 'instance.work', {
    busy: work.lanes_busy,
    lanes: settings.lanes,
    paused: work.lanes_paused,
    used: count(work.pages_used),
    pages: count(work.pages),
  })
})

/** The figures that are not empty. */
const lines = computed(() => all.value.filter(([, value]) => value))

const all = computed((): Figure[] => {
  const { settings, measured_bytes: measured, load_seconds: took, pid, kernels } = props.instance
  const { prompt_tokens: prompt, cached_tokens: cached, answer_tokens: answer, calls, queued } = props.instance
  return [
    [t('instance.reserved'), bytes(props.instance.reserved_bytes), t('hints.reserved')],
    [t('instance.measured'), measured == null ? t('common.notYet') : bytes(measured)],
    [t('instance.lanes'), t('instance.lanesOf', { lanes: settings.lanes, context: count(settings.context) }), t('hints.lanes')],
    [t('instance.layers'), settings.pools?.join(', ') ?? '', t('hints.pool')],
    [t('instance.cache'), cache.value, t('hints.cache')],
    [t('instance.weights'), settings.weights ?? 'mapped', t('hints.resident')],
    [t('instance.promptTokens'), t('instance.promptCached', { count: count(prompt), cached: count(cached) }), t('hints.cached')],
    [t('instance.answerTokens'), count(answer)],
    [t('instance.idle'), settings.idle ?? 'never', t('hints.idle')],
    [t('instance.calls'), t('instance.callsWaiting', { running: calls, waiting: queued ?? 0 })],
    [t('instance.busy'), work.value, t('hints.pages')],
    [t('instance.loadedIn'), took == null ? t('common.notYet') : seconds(took)],
    [t('instance.process'), pid == null ? t('common.none') : t('instance.processWith', { pid, kernels: kernels ?? '' })],
  ]
})
</script>

<template>
  <v-card class="pa-4 h-100 d-flex flex-column" :data-instance="instance.name" :data-state="instance.state">
    <div class="d-flex align-center flex-wrap ga-2 mb-2">
      <span class="text-title-medium font-weight-bold">{{ title(instance) }}</span>
      <v-chip size="small" :color="COLOURS[instance.state]" variant="tonal">{{ stateText }}</v-chip>
      <v-chip size="small" variant="outlined">
        {{ $t(instance.origin === 'requested' ? 'instance.byOperator' : 'instance.byCall')
        }}{{ instance.settings.pinned ? `, ${$t('instance.pinned')}` : '' }}
      </v-chip>
    </div>
    <FigureTable class="text-body-medium" :figures="lines" />
    <details class="mt-2 text-body-small">
      <summary>{{ $t('instance.parts') }}</summary>
      <div v-for="part in instance.planned" :key="part.pool + part.part" class="d-flex justify-space-between">
        <span>{{ $t('instance.part', part) }}</span><span>{{ bytes(part.bytes) }}</span>
      </div>
    </details>
    <v-alert v-if="instance.note" class="mt-2" density="compact" variant="tonal" type="warning">
      {{ instance.down_since ? $t('instance.downSince', { time: day(instance.down_since), note: instance.note }) : instance.note }}
    </v-alert>
    <ProblemNote v-if="instance.problem" class="mt-2" :problem="new Refused(instance.problem)" />
    <div class="d-flex ga-2 mt-auto pt-3">
      <v-btn
        v-if="instance.state === 'failed'"
        size="small"
        color="primary"
        variant="tonal"
        :loading="busy"
        @click="emit('retry', instance.id)"
      >
        {{ $t('common.retry') }}
      </v-btn>
      <v-btn
        v-if="instance.state === 'ready'"
        size="small"
        color="primary"
        variant="tonal"
        :to="{ path: '/try', query: { model: instance.name } }"
      >
        {{ $t('instance.tryIt') }}
      </v-btn>
      <v-btn size="small" variant="outlined" @click="emit('settings', instance)">{{ $t('instance.settings') }}</v-btn>
      <ConfirmButton
        :label="$t('instance.unload')"
        :question="$t('instance.unloadQuestion', { name: title(instance) })"
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
