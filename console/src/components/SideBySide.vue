<script setup lang="ts">
import { ref } from 'vue'

import { type Comparison, keep, kept } from '../comparison'
import { useSideBySide } from '../composables/useSideBySide'
import { day } from '../format'
import ComparisonColumns from './ComparisonColumns.vue'
import QuestionForm from './QuestionForm.vue'

defineProps<{ names: string[] }>()
const { comparison, running, begin, stop } = useSideBySide()

const models = ref<string[]>([])
const times = ref(1)
const question = ref('')
const temperature = ref(0)
const inTurn = ref(false)
const release = ref(false)
const all = ref(kept())

async function send(words: string) {
  await begin({
    models: models.value.flatMap((model) => Array<string>(times.value).fill(model)),
    question: words,
    temperature: temperature.value,
    inTurn: inTurn.value,
    release: release.value,
  })
}

function keepIt(one: Comparison) {
  all.value = keep([one, ...all.value.filter((other) => other.asked_at !== one.asked_at)])
}

function forget(one: Comparison) {
  all.value = keep(all.value.filter((other) => other.asked_at !== one.asked_at))
}

function show(one: Comparison) {
  stop()
  comparison.value = one
}
</script>

<template>
  <v-card class="pa-4 d-flex flex-column ga-3">
    <v-select v-model="models" :items="names" label="Models" multiple chips closable-chips />
    <div class="d-flex flex-wrap align-center ga-4">
      <v-number-input
        v-model="times"
        label="Answers of each"
        :min="1"
        :max="4"
        control-variant="stacked"
        class="times"
      />
      <v-slider v-model="temperature" label="Temperature" :min="0" :max="2" :step="0.1" hide-details class="chooser">
        <template #append>{{ temperature.toFixed(1) }}</template>
      </v-slider>
      <v-checkbox v-model="inTurn" label="One after the other" density="compact" hide-details :disabled="release" />
      <v-checkbox v-model="release" label="In turn, unloading each" density="compact" hide-details />
    </div>
    <QuestionForm
      v-model="question"
      label="Question to all"
      ask="Ask all"
      :running="running"
      :disabled="models.length === 0"
      @ask="send"
      @stop="stop"
    />
  </v-card>
  <ComparisonColumns v-if="comparison" :comparison="comparison" :running="running">
    <v-btn size="small" variant="tonal" color="primary" :disabled="running" @click="keepIt(comparison)">Keep</v-btn>
  </ComparisonColumns>
  <v-card v-if="all.length > 0" class="pa-4" aria-label="kept">
    <div class="text-title-medium font-weight-bold mb-1">Kept in this browser</div>
    <div v-for="one in all" :key="one.asked_at" class="d-flex flex-wrap align-center ga-2 py-1 text-body-medium">
      <span class="text-medium-emphasis">{{ day(one.asked_at) }}</span>
      <span class="text-truncate kept">{{ one.question }}</span>
      <span class="text-medium-emphasis">{{ one.answers.length }} answers</span>
      <v-spacer />
      <v-btn size="x-small" variant="outlined" @click="show(one)">Show</v-btn>
      <v-btn size="x-small" variant="text" @click="forget(one)">Forget</v-btn>
    </div>
  </v-card>
</template>

<style scoped>
.chooser {
  min-width: 220px;
  max-width: 320px;
}
.times {
  max-width: 150px;
}
.kept {
  max-width: 420px;
}
</style>
