<script setup lang="ts">
import { ref } from 'vue'

/** A button for an act that cannot be undone: it asks for a confirmation. */
defineProps<{ label: string; question: string; loading?: boolean; variant?: 'outlined' | 'text'; size?: string }>()
const emit = defineEmits<{ confirmed: [] }>()

const open = ref(false)

function confirm() {
  open.value = false
  emit('confirmed')
}
</script>

<template>
  <v-btn :size="size ?? 'small'" :variant="variant ?? 'outlined'" :loading="loading" @click="open = true">{{ label }}</v-btn>
  <v-dialog v-model="open" max-width="440" role="alertdialog" :aria-label="$t('common.confirm')">
    <v-card class="pa-5">
      <div class="text-body-large">{{ question }}</div>
      <div class="d-flex justify-end ga-2 mt-4">
        <v-btn variant="text" @click="open = false">{{ $t('common.back') }}</v-btn>
        <v-btn color="error" variant="flat" autofocus @click="confirm">{{ label }}</v-btn>
      </div>
    </v-card>
  </v-dialog>
</template>
