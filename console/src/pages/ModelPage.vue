<script setup lang="ts">
import { computed, onMounted, ref } from 'vue'

import { check, type CheckReport, inspect, Refused, type Status, type Variant } from '../api/client'
import LoadDialog from '../components/LoadDialog.vue'
import ProblemNote from '../components/ProblemNote.vue'
import { bytes, count } from '../format'

const props = defineProps<{ name: string; status: Status | null }>()

const variant = ref<Variant | null>(null)
const report = ref<CheckReport | null>(null)
const checking = ref(false)
const open = ref(false)
const problem = ref<Refused | null>(null)
const state = computed(() => props.status?.instances.find((i) => i.name === props.name)?.state)

async function attempt(work: () => Promise<void>) {
  problem.value = null
  try {
    await work()
  } catch (error) {
    problem.value = error instanceof Refused ? error : new Refused({ detail: String(error) })
  }
}

onMounted(() =>
  attempt(async () => {
    variant.value = await inspect(props.name)
  }),
)

async function tryIt() {
  checking.value = true
  await attempt(async () => {
    report.value = await check(props.name)
  })
  checking.value = false
}

const lines = computed(() => {
  const facts = variant.value?.facts
  if (!variant.value || !facts) return []
  const window = facts.window
    ? `${facts.window.layers} of ${facts.layers} layers see ${count(facts.window.tokens)} tokens`
    : 'none: every layer sees all'
  const lengths =
    facts.key_length === facts.value_length ? `${facts.key_length}` : `${facts.key_length} and ${facts.value_length}`
  return [
    ['serves', facts.serves?.join(', ') ?? ''],
    ['family', facts.family],
    ['parameters', count(facts.parameters)],
    ['layers', `${facts.layers}, width ${count(facts.width)}`],
    ['heads', `${facts.heads} (${facts.kv_heads} for keys and values), of ${lengths}`],
    ['context', `${count(facts.context_length)} tokens`],
    ['window', window],
    ...(facts.pooling ? [['pooling', facts.pooling]] : []),
    ['vocabulary', `${count(facts.vocabulary)} tokens`],
    ['tokenizer', facts.tokenizer],
    ['template', facts.has_template ? 'in the file' : 'none'],
    ['licence', facts.licence ?? 'not said'],
    ['size', bytes(variant.value.file_bytes)],
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
        <v-chip v-if="state" size="small" color="success" variant="tonal">{{ state }}</v-chip>
        <v-spacer />
        <v-btn variant="outlined" size="small" :loading="checking" @click="tryIt">Check it</v-btn>
        <v-btn v-if="!state" color="primary" size="small" @click="open = true">Load</v-btn>
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
      <v-card v-if="report" class="pa-4" aria-label="check">
        <div class="text-title-medium mb-2">
          <v-chip :color="report.well ? 'success' : 'error'" size="small" class="mr-2">
            {{ report.well ? 'well' : 'not well' }}
          </v-chip>
          {{ report.verdict }}
        </div>
        <dl class="facts">
          <template v-for="finding in report.findings" :key="finding.what">
            <dt>{{ finding.what }}</dt>
            <dd :class="{ 'text-error': !finding.well }">{{ finding.found }}</dd>
          </template>
        </dl>
      </v-card>
      <div class="columns">
        <v-card class="pa-4">
          <dl class="facts" aria-label="facts">
            <template v-for="[key, value] in lines" :key="key">
              <dt>{{ key }}</dt>
              <dd>{{ value }}</dd>
            </template>
          </dl>
        </v-card>
        <div class="d-flex flex-column ga-4">
          <v-card class="pa-4" aria-label="types">
            <div class="text-title-small mb-2">Tensor types by bytes</div>
            <div v-for="share in mix" :key="share.tensor_type" class="mb-2">
              <div class="d-flex justify-space-between text-body-small">
                <span>{{ share.tensor_type }}, {{ count(share.tensors) }} tensors</span>
                <span>{{ bytes(share.bytes) }}, {{ share.share.toFixed(1) }} %</span>
              </div>
              <v-progress-linear :model-value="share.share" color="primary" height="6" rounded />
            </div>
          </v-card>
          <v-card class="pa-4" aria-label="special tokens">
            <div class="text-title-small mb-2">Special tokens</div>
            <dl class="facts">
              <template v-for="token in variant.facts.special_tokens" :key="`${token.role}${token.id}`">
                <dt>{{ token.role }}</dt>
                <dd><code>{{ token.text }}</code> ({{ token.id }})</dd>
              </template>
            </dl>
          </v-card>
        </div>
      </div>
      <v-card v-if="variant.facts.sample" class="pa-4" aria-label="sample">
        <div class="text-title-small mb-2">A conversation as the template writes it</div>
        <pre>{{ variant.facts.sample }}</pre>
        <details v-if="variant.facts.template" class="mt-3">
          <summary>the template</summary>
          <pre class="mt-2">{{ variant.facts.template }}</pre>
        </details>
      </v-card>
      <div class="text-body-small text-medium-emphasis" aria-label="file">{{ variant.path }}</div>
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
