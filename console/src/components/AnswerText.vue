<script setup lang="ts">
import { mdiCheck, mdiContentCopy } from '@mdi/js'
import { computed, ref } from 'vue'

import { segments } from '../answerText'

const props = defineProps<{ text: string; growing?: boolean }>()
const parts = computed(() => segments(props.text))
/** Browsers offer no clipboard to unencrypted pages of other machines. */
const canCopy = Boolean(navigator.clipboard)
const copied = ref<number | null>(null)

async function copy(at: number, text: string) {
  await navigator.clipboard.writeText(text)
  copied.value = at
  setTimeout(() => (copied.value = null), 1500)
}
</script>

<template>
  <div>
    <template v-for="(part, at) in parts" :key="at">
      <div v-if="part.kind === 'text'" class="text">{{ part.text }}</div>
      <div v-else class="code">
        <div class="d-flex align-center text-body-small">
          <span class="text-medium-emphasis">{{ part.language }}</span>
          <v-spacer />
          <v-btn
            v-if="canCopy"
            size="x-small"
            variant="text"
            :prepend-icon="copied === at ? mdiCheck : mdiContentCopy"
            @click="copy(at, part.text)"
          >
            {{ $t(copied === at ? 'answer.copied' : 'answer.copy') }}
          </v-btn>
        </div>
        <pre>{{ part.text }}</pre>
      </div>
    </template>
    <span v-if="growing" class="cursor" />
  </div>
</template>

<style scoped>
.text {
  white-space: pre-wrap;
  overflow-wrap: anywhere;
}
.code {
  margin: 8px 0;
  padding: 4px 10px 8px;
  border-radius: 8px;
  background: rgba(var(--v-theme-on-surface), 0.06);
}
pre {
  overflow-x: auto;
}
.cursor {
  display: inline-block;
  width: 8px;
  height: 1em;
  background: rgb(var(--v-theme-secondary));
  vertical-align: text-bottom;
}
</style>
