<script setup lang="ts">
import { mdiPencilOutline } from '@mdi/js'
import { ref } from 'vue'

import { asRefused, type Pool, type Refused, setLimit } from '../api/client'
import { bytes } from '../format'

/** A pool's limit, and a way to change it until the service stops. */
const props = defineProps<{ pool: Pool }>()
const emit = defineEmits<{ refused: [problem: Refused | null] }>()

const editing = ref(false)
const text = ref('')

function begin() {
  text.value = bytes(props.pool.limit)
  editing.value = true
}

async function change() {
  try {
    await setLimit(props.pool.name, text.value)
    editing.value = false
    emit('refused', null)
  } catch (error) {
    emit('refused', asRefused(error))
  }
}
</script>

<template>
  <v-form v-if="editing" class="d-flex align-center ga-2" @submit.prevent="change">
    <v-text-field
      v-model="text"
      :aria-label="$t('pool.limit', { name: pool.name })"
      density="compact"
      hide-details
      autofocus
      width="140"
      @keydown.esc="editing = false"
    />
    <v-btn type="submit" size="small" color="primary">{{ $t('pool.change') }}</v-btn>
  </v-form>
  <v-btn
    v-else
    :icon="mdiPencilOutline"
    size="x-small"
    variant="text"
    :aria-label="$t('pool.changeLimit', { name: pool.name })"
    @click="begin"
  />
</template>
