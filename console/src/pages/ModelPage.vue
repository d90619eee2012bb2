<script setup lang="ts">
import { computed, onMounted, ref } from 'vue'

import { beginTracing, check, type CheckReport, inspect, type Status, stopTracing, type Variant } from '../api/client'
import ConfirmButton from '../components/ConfirmButton.vue'
import FigureTable, { type Figure } from '../components/FigureTable.vue'
import LoadDialog from '../components/LoadDialog.vue'
import ProblemNote from '../components/ProblemNote.vue'
import SnippetCard from '../components/SnippetCard.vue'
import TermHint from '../components/TermHint.vue'
import { useAttempt } from '../composables/useAttempt'
import { bytes, count } from '../format'
import { t } from '../i18n'

const props = defineProps<{ name: string; status: Status | null }>()

const variant = ref<Variant | null>(null)
const report = ref<CheckReport | null>(null)
const checking = ref(false)
const open = ref(false)
const { problem, attempt } = useAttempt()
const HOUR = 3600
/** All variants of a model are traced together. */
const model = computed(() => props.name.split('/')[0] ?? props.name)
const isTraced = computed(() => props.status?.tracing?.some((one) => one.model === model.value))
const state = computed(() => props.status?.instances.find((i) => i.name === props.name)?.state)

onMounted(() =>
  attempt(async () => {
    variant.value = await inspect(props.name)
  }),
)

async function checkIt() {
  checking.value = true
  await attempt(async () => {
    report.value = await check(props.name)
  })
  checking.value = false
}

const lines = computed((): Figure[] => {
  const facts = variant.value?.facts
  if (!variant.value || !facts) return []
  const window = facts.window
    ? t('model.windowOf', { layers: facts.window.layers, all: facts.layers, tokens: count(facts.window.tokens) })
    : t('common.none')
  const lengths =
    facts.key_length === facts.value_length ? `${facts.key_length}` : t('model.twoLengths', { keys: facts.key_length, values: facts.value_length })
  return [
    [t('depot.serves'), facts.serves?.join(', ') ?? ''],
    ...(facts.tool_calls
      ? [[t('depot.toolCalls'), `${facts.tool_calls.example} (${facts.tool_calls.form})`, t('hints.toolCalls')] as Figure]
      : []),
    ...(facts.reasoning ? [[t('depot.reasoning'), `${facts.reasoning.opening} ... ${facts.reasoning.closing}`] as Figure] : []),
    [t('depot.family'), facts.family],
    [t('depot.parameters'), count(facts.parameters)],
    [t('model.layers'), t('common.layers', { layers: facts.layers, width: count(facts.width) })],
    [t('model.heads'), t('model.headsOf', { heads: facts.heads, kvHeads: facts.kv_heads, lengths })],
    [t('depot.context'), t('common.tokens', { count: count(facts.context_length) }), t('hints.context')],
    [t('model.window'), window, t('hints.window')],
    ...(facts.pooling ? [[t('model.pooling'), facts.pooling] as Figure] : []),
    [t('model.vocabulary'), t('common.tokens', { count: count(facts.vocabulary) })],
    [t('model.tokenizer'), facts.tokenizer],
    [t('depot.template'), t(facts.has_template ? 'common.inTheFile' : 'common.none')],
    [t('depot.licence'), facts.licence ?? t('common.notStated')],
    [t('model.size'), bytes(variant.value.file_bytes)],
  ]
})

/** Share of each tensor type of all tensor bytes. */
const mix = computed(() => {
  const shares = variant.value?.facts.mix ?? []
  const all = shares.reduce((sum, share) => sum + share.bytes, 0)
  return shares.map((share) => ({ ...share, share: all ? (100 * share.bytes) / all : 0 }))
})
</script>

<template>
  <div class="d-flex flex-column ga-4">
    <ProblemNote v-if="problem" :problem="problem" />
    <template v-if="variant">
      <div class="d-flex flex-wrap align-center ga-2">
        <h1 class="text-headline-small font-weight-bold">{{ variant.name }}</h1>
        <v-chip v-if="state" size="small" color="success" variant="tonal">{{ $t(`states.${state}`) }}</v-chip>
        <v-spacer />
        <v-btn v-if="isTraced" variant="outlined" size="small" @click="attempt(() => stopTracing(model))">{{ $t('traces.stop') }}</v-btn>
        <confirm-button v-else :label="$t('traces.begin')" :question="$t('traces.ask', { model })" @confirmed="attempt(() => beginTracing(model, HOUR))" />
        <v-btn variant="outlined" size="small" :loading="checking" @click="checkIt">{{ $t('model.check') }}</v-btn>
        <v-btn v-if="!state" color="primary" size="small" @click="open = true">{{ $t('model.load') }}</v-btn>
      </div>
      <div v-if="variant.facts.description" class="text-medium-emphasis">{{ variant.facts.description }}</div>
      <v-alert
        v-for="warning in variant.facts.warnings"
        :key="warning"
        type="warning"
        variant="tonal"
        density="compact"
      >
        {{ warning }}
      </v-alert>
      <v-card v-if="report" class="pa-4" :aria-label="$t('model.checkLabel')">
        <div class="text-title-medium mb-2">
          <v-chip :color="report.passed ? 'success' : 'error'" size="small" class="mr-2">
            {{ $t(report.passed ? 'model.passed' : 'model.failed') }}
          </v-chip>
          {{ report.passed ? $t('model.passedAll') : report.verdict }}
        </div>
        <dl class="facts">
          <template v-for="finding in report.findings" :key="finding.what">
            <dt>{{ finding.what }}</dt>
            <dd :class="{ 'text-error': !finding.passed }">{{ finding.found }}</dd>
          </template>
        </dl>
      </v-card>
      <div class="columns">
        <v-card class="pa-4">
          <FigureTable :aria-label="$t('model.facts')" :figures="lines" />
        </v-card>
        <div class="d-flex flex-column ga-4">
          <v-card class="pa-4" :aria-label="$t('model.types')">
            <div class="text-title-small mb-2">
              <TermHint :term="$t('model.types')" :hint="$t('hints.quantisation')" />
            </div>
            <div v-for="share in mix" :key="share.tensor_type" class="mb-2">
              <div class="d-flex justify-space-between text-body-small">
                <span>{{ $t('model.typeTensors', { type: share.tensor_type, count: count(share.tensors) }) }}</span>
                <span>{{ $t('model.typeBytes', { bytes: bytes(share.bytes), percent: share.share.toFixed(1) }) }}</span>
              </div>
              <v-progress-linear :aria-label="share.tensor_type" :model-value="share.share" color="primary" height="6" rounded />
            </div>
          </v-card>
          <v-card class="pa-4" :aria-label="$t('model.special')">
            <div class="text-title-small mb-2">{{ $t('model.special') }}</div>
            <dl class="facts">
              <template v-for="token in variant.facts.special_tokens" :key="`${token.role}${token.id}`">
                <dt>{{ token.role }}</dt>
                <dd><code>{{ token.text }}</code> ({{ token.id }})</dd>
              </template>
            </dl>
          </v-card>
        </div>
      </div>
      <v-card v-if="variant.facts.sample" class="pa-4" :aria-label="$t('model.sample')">
        <div class="text-title-small mb-2">{{ $t('model.sample') }}</div>
        <pre>{{ variant.facts.sample }}</pre>
        <details v-if="variant.facts.template" class="mt-3">
          <summary>{{ $t('model.template') }}</summary>
          <pre class="mt-2">{{ variant.facts.template }}</pre>
        </details>
      </v-card>
      <SnippetCard :model="variant.name" />
      <div class="text-body-small text-medium-emphasis" :aria-label="$t('model.file')">{{ variant.path }}</div>
      <LoadDialog v-model="open" :variant="variant" />
    </template>
  </div>
</template>

<style scoped>
.columns {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(min(100%, 380px), 1fr));
  gap: 16px;
  align-items: start;
}
.facts {
  display: grid;
  margin: 0;
  grid-template-columns: max-content minmax(0, 1fr);
  gap: 4px 16px;
}
dt {
  opacity: 0.7;
}
dd {
  margin: 0;
  overflow-wrap: anywhere;
  font-variant-numeric: tabular-nums;
}
pre {
  overflow-x: auto;
  white-space: pre-wrap;
  font-size: 0.85rem;
}
summary {
  cursor: pointer;
}
</style>
