<script setup lang="ts">
import { computed, onMounted, ref } from 'vue'

import { type Snippet, snippets } from '../api/client'
import { useAttempt } from '../composables/useAttempt'
import AnswerText from './AnswerText.vue'
import ProblemNote from './ProblemNote.vue'

/** Programs that call a model, by task and language. */
const props = defineProps<{ model: string }>()

const all = ref<Snippet[]>([])
const task = ref<Snippet['task']>()
const language = ref<Snippet['language']>('curl')
const { problem, attempt } = useAttempt()

const tasks = computed(() => [...new Set(all.value.map((snippet) => snippet.task))])
const languages = computed(() => [...new Set(all.value.map((snippet) => snippet.language))])
const code = computed(
  () => all.value.find((snippet) => snippet.task === task.value && snippet.language === language.value)?.code ?? '',
)
/** As an answer would have it: with a button that copies. */
const block = computed(() => `\`\`\`${language.value}\n${code.value}\`\`\``)

onMounted(() =>
  attempt(async () => {
    all.value = await snippets(props.model)
    task.value = all.value[0]?.task
  }),
)
</script>

<template>
  <ProblemNote v-if="problem" :problem="problem" />
  <v-card v-if="code" class="pa-4" :aria-label="$t('snippets.title')">
    <div class="d-flex flex-wrap align-center ga-3 mb-3">
      <div class="text-title-small">{{ $t('snippets.title') }}</div>
      <v-spacer />
      <v-btn-toggle v-if="tasks.length > 1" v-model="task" :aria-label="$t('snippets.task')" mandatory density="compact" variant="outlined">
        <v-btn v-for="one in tasks" :key="one" :value="one" size="small">{{ $t(`snippets.tasks.${one}`) }}</v-btn>
      </v-btn-toggle>
      <v-btn-toggle v-model="language" :aria-label="$t('snippets.language')" mandatory density="compact" variant="outlined">
        <v-btn v-for="one in languages" :key="one" :value="one" size="small">{{ $t(`snippets.languages.${one}`) }}</v-btn>
      </v-btn-toggle>
    </div>
    <AnswerText :text="block" />
  </v-card>
</template>
