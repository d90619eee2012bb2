<script setup lang="ts">
import { computed } from 'vue'

import type { Figures, Usage } from '../api/client'
import { count, seconds } from '../format'
import { t } from '../i18n'
import type { Figure } from './FigureTable.vue'
import TermHint from './TermHint.vue'

const props = defineProps<{ figures: Figures; usage: Usage | null }>()

const tokens = (number: number | undefined, rate: number) =>
  t('common.tokensAtRate', { count: count(number ?? 0), rate: count(Math.round(rate)) })

const items = computed((): Figure[] => [
  [t('figures.firstToken'), seconds(props.figures.first_token_seconds), t('hints.firstToken')],
  [t('figures.prompt'), tokens(props.usage?.prompt_tokens, props.figures.prompt_rate)],
  [t('figures.answer'), tokens(props.usage?.completion_tokens, props.figures.answer_rate)],
  [t('figures.cached'), t('common.tokens', { count: count(props.figures.cached_tokens ?? 0) }), t('hints.cached')],
  [t('figures.load'), props.figures.load_seconds > 0 ? seconds(props.figures.load_seconds) : t('figures.alreadyLoaded')],
  [t('figures.total'), seconds(props.figures.total_seconds)],
  [t('figures.ended'), t(`figures.${props.figures.ended_by}`)],
])
</script>

<template>
  <dl class="figures text-body-small" :aria-label="$t('figures.label')">
    <div v-for="[name, value, hint] in items" :key="name">
      <dt class="text-medium-emphasis">
        <TermHint v-if="hint" :term="name" :hint="hint" />
        <template v-else>{{ name }}</template>
      </dt>
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
