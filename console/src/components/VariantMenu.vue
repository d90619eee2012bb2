<script setup lang="ts">
import { mdiDotsVertical } from '@mdi/js'
import { ref } from 'vue'

import { type Removal, remove, rename, type Variant, verify } from '../api/client'
import { useAttempt } from '../composables/useAttempt'
import { bytes } from '../format'
import ProblemNote from './ProblemNote.vue'

/** The less common actions for a variant: verify, rename, remove. */
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
      <v-btn v-bind="opener" :icon="mdiDotsVertical" size="small" variant="text" :aria-label="$t('depot.more', { name: variant.name })" />
    </template>
    <v-list density="compact">
      <v-list-item v-if="variant.stored" :title="$t('depot.verify')" @click="attempt(() => verify([variant.name]))" />
      <v-list-item :title="$t('depot.rename')" @click="ask('rename')" />
      <v-list-item :title="$t('depot.remove')" @click="ask('remove')" />
    </v-list>
  </v-menu>
  <v-snackbar :model-value="!open && !!problem" :timeout="-1" color="surface" location="bottom">
    <ProblemNote v-if="problem" :problem="problem" />
    <template #actions><v-btn variant="text" @click="problem = null">{{ $t('common.close') }}</v-btn></template>
  </v-snackbar>
  <v-dialog v-model="open" max-width="520" :aria-label="$t(`depot.${asked}`)">
    <v-card class="pa-5">
      <template v-if="asked === 'rename'">
        <div class="text-title-large font-weight-bold mb-4">{{ $t('depot.renameTitle', { name: variant.name }) }}</div>
        <v-text-field v-model="name" :label="$t('depot.newName')" hide-details autofocus @keydown.enter="act" />
      </template>
      <template v-else>
        <div class="text-title-large font-weight-bold mb-4">{{ $t('depot.removeTitle', { name: variant.name }) }}</div>
        <div v-if="removal?.stored">{{ $t('depot.removeFrees', { bytes: bytes(removal.frees) }) }}</div>
        <div v-else-if="removal">{{ $t('depot.removeRegistered') }}</div>
      </template>
      <ProblemNote v-if="problem" class="mt-3" :problem="problem" />
      <div class="d-flex justify-end ga-2 mt-4">
        <v-btn variant="text" @click="open = false">{{ $t('common.cancel') }}</v-btn>
        <v-btn :color="asked === 'remove' ? 'error' : 'primary'" :disabled="asked === 'remove' && !removal" @click="act">
          {{ $t(`depot.${asked}`) }}
        </v-btn>
      </div>
    </v-card>
  </v-dialog>
</template>
