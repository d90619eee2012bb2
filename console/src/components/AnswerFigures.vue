<script setup lang="ts">
import { computed } from 'vue'

import type { Figures, Usage } from '../api/client'
import { count, seconds } from '../format'

const props = defineProps<{ figures: Figures; usage: Usage | null }>()

const ENDS: Record<Figures['ended_by'], string> = {
  end_token: 'by itself',
  stop_text: 'at a stop text',
  token_limit: 'at its token limit',
  context_full: 'as the context is full',
  repetition: 'as it repeated itself',
}

const items = computed(() => [
  ['first token', seconds(props.figures.first_token_seconds)],
  ['prompt', `${count(props.usage?.prompt_tokens ?? 0)} tokens, ${count(Math.round(props.figures.prompt_rate))}/s`],
  ['answer', `${count(props.usage?.completion_tokens ?? 0)} tokens, ${count(Math.round(props.figures.answer_rate))}/s`],
  ['known before', `${count(props.figures.reused_tokens ?? 0)} tokens`],
  ['load', props.figures.load_seconds > 0 ? seconds(props.figures.load_seconds) : 'none'],
  ['total', seconds(props.figures.total_seconds)],
  ['ended', ENDS[props.figures.ended_by]],
])
</script>

<template>
  <dl class="figures text-body-small" aria-label="figures of the answer">
    <div v-for="[name, value] in items" :key="name">
      <dt class="text-medium-emphasis">{{ name }}</dt>
      <dd>{{ value }}</dd>
    </div>
    <div v-if="figures.detail" class="detail">{{ figures.detail }}</div>
  </dl>
</template>

<style scoped>
.figures {
  display: flex;
  flex-wrap: wrap;
  gap: 4px 20px;
}
.detail {
  flex-basis: 100%;
}
dd {
  margin: 0;
  font-variant-numeric: tabular-nums;
}
</style>
