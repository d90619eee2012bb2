<script setup lang="ts">
import { mdiDownload } from '@mdi/js'

import { type Comparison, figuresOf, markdown } from '../comparison'
import AnswerText from './AnswerText.vue'
import FigureTable from './FigureTable.vue'
import QuestionBubble from './QuestionBubble.vue'
import ReasoningText from './ReasoningText.vue'

const props = defineProps<{ comparison: Comparison; running: boolean }>()

function save(kind: 'md' | 'json') {
  const text = kind === 'md' ? markdown(props.comparison) : JSON.stringify(props.comparison, null, 2)
  const link = document.createElement('a')
  link.href = URL.createObjectURL(new Blob([text], { type: kind === 'md' ? 'text/markdown' : 'application/json' }))
  link.download = `side-by-side.${kind}`
  link.click()
  URL.revokeObjectURL(link.href)
}
</script>

<template>
  <div class="d-flex flex-column ga-3">
    <QuestionBubble :text="comparison.question" />
    <div class="columns">
      <v-card v-for="column in comparison.answers" :key="column.model" class="pa-4 d-flex flex-column" :data-column="column.model">
        <div class="font-weight-bold mb-2">{{ column.model }}</div>
        <ReasoningText :text="column.reasoning ?? ''" :seconds="column.figures?.reasoning_seconds" :growing="running && !column.answer" />
        <AnswerText :text="column.answer" :growing="running && !column.figures && !column.problem" aria-live="polite" />
        <v-alert v-if="column.problem" type="error" variant="tonal" density="compact" class="mt-2">
          {{ column.problem }}
        </v-alert>
        <FigureTable class="text-body-small mt-auto pt-3" :figures="figuresOf(column)" />
      </v-card>
    </div>
    <div class="d-flex ga-2 flex-wrap">
      <slot />
      <v-btn size="small" variant="outlined" :prepend-icon="mdiDownload" :disabled="running" @click="save('md')">{{ $t('sideBySide.markdown') }}</v-btn>
      <v-btn size="small" variant="outlined" :prepend-icon="mdiDownload" :disabled="running" @click="save('json')">{{ $t('sideBySide.json') }}</v-btn>
    </div>
  </div>
</template>

<style scoped>
.columns {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(240px, 1fr));
  gap: 12px;
}
</style>
