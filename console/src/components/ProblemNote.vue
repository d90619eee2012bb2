<script setup lang="ts">
import type { Refused, Way } from '../api/client'

/** `takes`: a way out can be applied by a click. */
defineProps<{ problem: Refused; takes?: boolean }>()
const emit = defineEmits<{ take: [way: Way] }>()
</script>

<template>
  <v-alert type="error" variant="tonal" density="compact" role="alert">
    <div>{{ problem.problem.detail }}</div>
    <div v-if="problem.problem.way_out" class="text-body-small mt-1">{{ problem.problem.way_out }}</div>
    <ul v-if="problem.problem.ways?.length" class="ways text-body-small">
      <li v-for="way in problem.problem.ways" :key="way.command">
        <code>{{ way.command }}</code> <span class="text-medium-emphasis">({{ way.effect }})</span>
        <v-btn v-if="takes && way.settings" size="x-small" variant="outlined" class="ml-2" @click="emit('take', way)">
          {{ $t('problem.take') }}
        </v-btn>
      </li>
    </ul>
  </v-alert>
</template>

<style scoped>
.ways {
  margin: 4px 0 0;
  padding-left: 18px;
}
li {
  margin-top: 4px;
}
</style>
