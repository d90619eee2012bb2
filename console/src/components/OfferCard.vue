<script setup lang="ts">
import { computed } from 'vue'

import type { Offer } from '../api/client'
import { fits } from '../fits'
import { bytes } from '../format'

/** A model of a source, with its variants. */
const props = defineProps<{ name: string; variants: Offer[] }>()
const emit = defineEmits<{ open: [reference: string] }>()

const first = computed(() => props.variants[0])
const about = computed(() =>
  [first.value?.family, first.value?.serves?.join(', '), first.value?.licence].filter(Boolean).join(' · '),
)
</script>

<template>
  <v-card class="pa-4" :data-offered="name">
    <div class="text-title-medium font-weight-bold">{{ name }}</div>
    <div v-if="first?.description" class="text-body-medium text-medium-emphasis">{{ first.description }}</div>
    <div v-if="about" class="text-body-small text-medium-emphasis mb-1">{{ about }}</div>
    <v-table density="compact" class="figures">
      <tbody>
        <tr v-for="offer in variants" :key="offer.reference" :data-offer="offer.reference">
          <td class="font-weight-medium">{{ offer.variant }}</td>
          <td class="text-right text-no-wrap">{{ offer.bytes ? bytes(offer.bytes) : $t('find.sizeUnknown') }}</td>
          <td>
            <v-chip v-if="offer.known_as" size="small" variant="outlined">{{ $t('find.inDepot', { name: offer.known_as }) }}</v-chip>
            <v-chip v-else-if="offer.fit" size="small" variant="tonal" :color="fits(offer.fit).colour">
              {{ fits(offer.fit).text }}
            </v-chip>
          </td>
          <td class="text-right">
            <v-btn size="small" variant="outlined" @click="emit('open', offer.reference)">{{ $t('find.preview') }}</v-btn>
          </td>
        </tr>
      </tbody>
    </v-table>
  </v-card>
</template>

<style scoped>
.figures :deep(table) {
  table-layout: fixed;
}
.figures td:nth-child(2) {
  width: 110px;
}
.figures td:last-child {
  width: 130px;
}
.figures {
  font-variant-numeric: tabular-nums;
}
</style>
