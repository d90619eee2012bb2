<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRoute } from 'vue-router'

import type { Figures, Status, Usage } from '../api/client'
import AnswerFigures from '../components/AnswerFigures.vue'
import AnswerText from '../components/AnswerText.vue'
import HintMark from '../components/HintMark.vue'
import ProblemNote from '../components/ProblemNote.vue'
import QuestionBubble from '../components/QuestionBubble.vue'
import QuestionForm from '../components/QuestionForm.vue'
import ReasoningText from '../components/ReasoningText.vue'
import SideBySide from '../components/SideBySide.vue'
import { useAnswer } from '../composables/useAnswer'
import { useDepot } from '../composables/useDepot'
import { t } from '../i18n'

interface Turn {
  question: string
  answer: string
  model: string
  reasoning: string
  figures: Figures | null
  usage: Usage | null
  /** Why the answer is incomplete, if it is. */
  cut?: string
}

const props = defineProps<{ status: Status | null }>()
const route = useRoute()
const { variants } = useDepot()
const answer = useAnswer()
const { text, reasoning, running, problem } = answer

const model = ref(typeof route.query.model === 'string' ? route.query.model : '')
const question = ref('')
const way = ref(route.query.way === 'several' ? 'several' : 'one')
const temperature = ref(0)
const asked = ref('')
const turns = ref<Turn[]>([])

const names = computed(() => variants.value.map((variant) => variant.name))
const loaded = computed(() => props.status?.instances.some((i) => i.name === model.value && i.state === 'ready'))

// Where no model was chosen: a loaded one, else the first of the depot.
watch([names, () => props.status], () => {
  if (!model.value) {
    model.value = props.status?.instances.find((i) => i.state === 'ready')?.name ?? names.value[0] ?? ''
  }
})

async function send(words: string) {
  asked.value = words
  question.value = ''
  const messages = turns.value.flatMap((turn) => [
    { role: 'user', content: turn.question },
    { role: 'assistant', content: turn.answer },
  ])
  messages.push({ role: 'user', content: words })
  const name = model.value
  const whole = await answer.begin({ model: name, messages, temperature: temperature.value })
  const { figures, usage } = answer
  const soFar = whole ?? text.value
  if (soFar || whole !== null) {
    // A partial answer stays when it was stopped or interrupted.
    const cut = whole === null ? (problem.value ? t('try.interrupted') : t('try.stopped')) : undefined
    turns.value.push({ question: words, answer: soFar, reasoning: reasoning.value, model: name, figures: figures.value, usage: usage.value, cut })
  } else {
    question.value ||= words
  }
  asked.value = ''
}

function restart() {
  answer.stop()
  turns.value = []
}
</script>

<template>
  <div class="d-flex flex-column ga-4">
    <h1 class="text-headline-small font-weight-bold">{{ $t('pages.try') }}</h1>
    <v-btn-toggle v-model="way" mandatory density="compact" variant="outlined" divided class="align-self-start">
      <v-btn value="one" size="small">{{ $t('try.one') }}</v-btn>
      <v-btn value="several" size="small">{{ $t('try.several') }}</v-btn>
    </v-btn-toggle>
    <SideBySide v-if="way === 'several'" :names="names" />
    <template v-else>
      <v-card class="pa-4 d-flex flex-wrap align-center ga-4">
        <v-select v-model="model" :items="names" :label="$t('try.model')" class="chooser" />
        <v-slider v-model="temperature" :label="$t('try.temperature')" :name="$t('try.temperature')" :min="0" :max="2" :step="0.1" hide-details class="chooser">
          <template #append>{{ temperature.toFixed(1) }} <HintMark :hint="$t('hints.temperature')" /></template>
        </v-slider>
        <v-btn variant="text" :disabled="turns.length === 0" @click="restart">{{ $t('try.new') }}</v-btn>
        <span v-if="model && !loaded" class="text-body-small text-medium-emphasis">
          {{ $t('try.notLoaded') }}
        </span>
      </v-card>
      <div v-for="(turn, at) in turns" :key="at" class="d-flex flex-column ga-2" data-turn>
        <QuestionBubble :text="turn.question" />
        <v-card class="pa-4">
          <ReasoningText :text="turn.reasoning" :seconds="turn.figures?.reasoning_seconds" />
          <AnswerText :text="turn.answer" />
          <v-divider class="my-3" />
          <div class="text-body-small text-medium-emphasis mb-1">{{ turn.model }}</div>
          <div v-if="turn.cut" class="text-body-small text-warning">{{ turn.cut }}</div>
          <AnswerFigures v-if="turn.figures" :figures="turn.figures" :usage="turn.usage" />
        </v-card>
      </div>
      <div v-if="asked" class="d-flex flex-column ga-2">
        <QuestionBubble :text="asked" />
        <v-card class="pa-4" aria-live="polite">
          <ReasoningText :text="reasoning" :growing="!text" />
          <AnswerText :text="text" :growing="Boolean(text) || !reasoning" />
        </v-card>
      </div>
      <ProblemNote v-if="problem" :problem="problem" />
      <QuestionForm v-model="question" :label="$t('try.question')" :ask="$t('try.ask')" :running="running" :disabled="!model" @ask="send" @stop="answer.stop()" />
    </template>
  </div>
</template>

<style scoped>
.chooser {
  min-width: 220px;
  max-width: 340px;
}
</style>
