<script setup lang="ts">
import { ref, watch } from 'vue'

import { type Status, type Trace, trace, traces, type TraceSummary } from '../api/client'
import { useAttempt } from '../composables/useAttempt'
import { clock, day } from '../format'
import { t } from '../i18n'
import ProblemNote from './ProblemNote.vue'

/** Traces of calls; nothing where there are none. */
const props = defineProps<{ status: Status | null }>()

const all = ref<TraceSummary[]>([])
const read = ref<Record<string, Trace>>({})
const { problem, attempt } = useAttempt()

// A trace is there when its call has ended.
watch(
  () => [props.status?.calls?.map((call) => call.id).join(), props.status?.tracing?.length],
  () =>
    attempt(async () => {
      all.value = await traces()
    }),
  { immediate: true },
)

async function open(ids: unknown) {
  for (const id of (Array.isArray(ids) ? ids : [ids]) as string[]) {
    if (id && !read.value[id]) await attempt(async () => void (read.value[id] = await trace(id)))
  }
}

/** The parts of a trace with their titles. */
function parts(found: Trace): [string, string][] {
  const answers = found.answers.flatMap((answer): [string, string][] => {
    const output: [string, string] = [t('traces.output'), answer.output]
    if (answer.stopped_at == null) return [output]
    const begun = [...answer.output].slice(0, answer.stopped_at).join('')
    return [output, [t('traces.stoppedAfter', { count: answer.stopped_at }), begun]]
  })
  const more: [string, string | null | undefined][] = [
    [t('traces.callForm'), found.call_form],
    [t('traces.constraint'), found.constraint],
  ]
  return [[t('traces.prompt'), found.prompt], ...more.filter((part): part is [string, string] => !!part[1]), ...answers]
}
</script>

<template>
  <ProblemNote v-if="problem" :problem="problem" />
  <v-card v-if="all.length" class="pa-4" :aria-label="$t('traces.title')">
    <div class="text-title-medium font-weight-bold mb-2">{{ $t('traces.title') }}</div>
    <v-expansion-panels variant="accordion" multiple @update:model-value="open">
      <v-expansion-panel v-for="one in all" :key="one.call" :value="one.call">
        <v-expansion-panel-title>
          <span class="moment mr-4">{{ day(one.arrived_at) }}</span>
          <span class="mr-4">{{ one.name }}</span>
          <span class="mr-4">{{ one.caller }}</span>
          <span class="mr-4">{{ one.outcome }}</span>
          <v-chip v-if="one.stopped" size="small" color="warning" variant="tonal">{{ $t('traces.stopped') }}</v-chip>
          <v-spacer />
          <span class="text-medium-emphasis mr-2">{{ $t('traces.deleted', { time: clock(one.deleted_at) }) }}</span>
        </v-expansion-panel-title>
        <v-expansion-panel-text>
          <template v-for="[title, text] in read[one.call] ? parts(read[one.call]!) : []" :key="title">
            <div class="text-title-small mt-2">{{ title }}</div>
            <pre tabindex="0" :aria-label="title">{{ text }}</pre>
          </template>
        </v-expansion-panel-text>
      </v-expansion-panel>
    </v-expansion-panels>
  </v-card>
</template>

<style scoped>
.moment {
  white-space: nowrap;
  font-variant-numeric: tabular-nums;
}
pre {
  white-space: pre-wrap;
  overflow-wrap: anywhere;
  max-height: 24em;
  overflow-y: auto;
}
</style>
