<script setup lang="ts">
import { mdiSend, mdiStop } from '@mdi/js'

/** A field for a question; Enter asks, Shift+Enter starts a line. */
const question = defineModel<string>({ required: true })
const props = defineProps<{ label: string; ask: string; running: boolean; disabled?: boolean }>()
const emit = defineEmits<{ ask: [words: string]; stop: [] }>()

function send() {
  const words = question.value.trim()
  if (words && !props.running && !props.disabled) emit('ask', words)
}
</script>

<template>
  <form class="d-flex ga-2 align-end" @submit.prevent="send">
    <v-textarea
      v-model="question"
      :label="label"
      rows="2"
      auto-grow
      max-rows="8"
      variant="outlined"
      hide-details
      bg-color="surface"
      @keydown.enter.exact.prevent="send"
    />
    <v-btn v-if="running" :icon="mdiStop" :aria-label="$t('try.stop')" color="error" @click="emit('stop')" />
    <v-btn
      v-else
      :icon="mdiSend"
      :aria-label="ask"
      color="primary"
      type="submit"
      :disabled="!question.trim() || disabled"
    />
  </form>
</template>
