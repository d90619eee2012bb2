<script setup lang="ts">
import { mdiDotsVertical } from '@mdi/js'
import { ref } from 'vue'

import { type Removal, remove, rename, type Variant, verify } from '../api/client'
import { useAttempt } from '../composables/useAttempt'
import { bytes } from '../format'
import ProblemNote from './ProblemNote.vue'

/** What is seldom done with a variant: reading it again, renaming, removing. */
const props = defineProps<{ variant: Variant }>()
const emit = defineEmits<{ changed: [] }>()

const asked = ref<'rename' | 'remove'>('rename')
const open = ref(false)
const name = ref('')
const removal = ref<Removal | null>(null)
const { problem, attempt } = useAttempt()

function ask(what: 'rename' | 'remove') {
  asked.value = what
  open.value = true
  name.value = props.variant.name
  removal.value = null
  void attempt(async () => {
    if (what === 'remove') removal.value = await remove(props.variant.name, true)
  })
}

const act = () =>
  attempt(async () => {
    if (asked.value === 'rename') await rename(props.variant.name, name.value)
    else await remove(props.variant.name, false)
    open.value = false
    emit('changed')
  })
</script>

<template>
  <v-menu>
    <template #activator="{ props: opener }">
      <v-btn v-bind="opener" :icon="mdiDotsVertical" size="small" variant="text" :aria-label="`more about ${variant.name}`" />
    </template>
    <v-list density="compact">
      <v-list-item v-if="variant.kept" title="Verify" @click="attempt(() => verify([variant.name]))" />
      <v-list-item title="Rename" @click="ask('rename')" />
      <v-list-item title="Remove" @click="ask('remove')" />
    </v-list>
  </v-menu>
  <v-snackbar :model-value="!open && !!problem" :timeout="-1" color="surface" location="bottom">
    <ProblemNote v-if="problem" :problem="problem" />
    <template #actions><v-btn variant="text" @click="problem = null">Close</v-btn></template>
  </v-snackbar>
  <v-dialog v-model="open" max-width="520">
    <v-card class="pa-5" :aria-label="asked">
      <template v-if="asked === 'rename'">
        <div class="text-title-large font-weight-bold mb-4">Rename {{ variant.name }}</div>
        <v-text-field v-model="name" label="New name" hide-details autofocus @keydown.enter="act" />
      </template>
      <template v-else>
        <div class="text-title-large font-weight-bold mb-4">Remove {{ variant.name }}?</div>
        <div v-if="removal?.kept">That frees {{ bytes(removal.frees) }}.</div>
        <div v-else-if="removal">It is forgotten; its file stays where it is.</div>
      </template>
      <ProblemNote v-if="problem" class="mt-3" :problem="problem" />
      <div class="d-flex justify-end ga-2 mt-4">
        <v-btn variant="text" @click="open = false">Cancel</v-btn>
        <v-btn :color="asked === 'remove' ? 'error' : 'primary'" :disabled="asked === 'remove' && !removal" @click="act">
          {{ asked === 'rename' ? 'Rename' : 'Remove' }}
        </v-btn>
      </div>
    </v-card>
  </v-dialog>
</template>
