<script setup lang="ts">
import { ref } from 'vue'

import { type Comparison, save, saved } from '../comparison'
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
const sequential = ref(false)
const unloadAfter = ref(false)
const all = ref(saved())

async function send(words: string) {
  await begin({
    models: models.value.flatMap((model) => Array<string>(times.value).fill(model)),
    question: words,
    temperature: temperature.value,
    sequential: sequential.value,
    unloadAfter: unloadAfter.value,
  })
}

function saveIt(one: Comparison) {
  all.value = save([one, ...all.value.filter((other) => other.asked_at !== one.asked_at)])
}

function drop(one: Comparison) {
  all.value = save(all.value.filter((other) => other.asked_at !== one.asked_at))
}

function show(one: Comparison) {
  stop()
  comparison.value = one
}
</script>

<template>
  <v-card class="pa-4 d-flex flex-column ga-3">
    <v-select v-model="models" :items="names" :label="$t('sideBySide.models')" multiple chips closable-chips />
    <div class="d-flex flex-wrap align-center ga-4">
      <v-number-input
        v-model="times"
        :label="$t('sideBySide.times')"
        :min="1"
        :max="4"
        control-variant="stacked"
        class="times"
      />
      <v-slider v-model="temperature" :label="$t('try.temperature')" :name="$t('try.temperature')" :min="0" :max="2" :step="0.1" hide-details class="chooser">
        <template #append>{{ temperature.toFixed(1) }}</template>
      </v-slider>
      <v-checkbox v-model="sequential" :label="$t('sideBySide.sequential')" density="compact" hide-details :disabled="unloadAfter" />
      <v-checkbox v-model="unloadAfter" :label="$t('sideBySide.unloadAfter')" density="compact" hide-details />
    </div>
    <QuestionForm
      v-model="question"
      :label="$t('sideBySide.question')"
      :ask="$t('sideBySide.ask')"
      :running="running"
      :disabled="models.length === 0"
      @ask="send"
      @stop="stop"
    />
  </v-card>
  <ComparisonColumns v-if="comparison" :comparison="comparison" :running="running">
    <v-btn size="small" variant="tonal" color="primary" :disabled="running" @click="saveIt(comparison)">{{ $t('sideBySide.save') }}</v-btn>
  </ComparisonColumns>
  <v-card v-if="all.length > 0" class="pa-4" :aria-label="$t('sideBySide.saved')">
    <div class="text-title-medium font-weight-bold mb-1">{{ $t('sideBySide.savedTitle') }}</div>
    <div v-for="one in all" :key="one.asked_at" class="d-flex flex-wrap align-center ga-2 py-1 text-body-medium">
      <span class="text-medium-emphasis">{{ day(one.asked_at) }}</span>
      <span class="text-truncate saved">{{ one.question }}</span>
      <span class="text-medium-emphasis">{{ $t('sideBySide.answers', { count: one.answers.length }) }}</span>
      <v-spacer />
      <v-btn size="x-small" variant="outlined" @click="show(one)">{{ $t('sideBySide.show') }}</v-btn>
      <v-btn size="x-small" variant="text" @click="drop(one)">{{ $t('sideBySide.delete') }}</v-btn>
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
.saved {
  max-width: 420px;
}
</style>
