<script setup lang="ts">
import type { Refused } from '../api/client'

defineProps<{ problem: Refused }>()
</script>

<template>
  <v-alert type="error" variant="tonal" density="compact" role="alert">
    <div>{{ problem.problem.detail }}</div>
    <div v-if="problem.problem.way_out" class="text-body-small mt-1">{{ problem.problem.way_out }}</div>
  </v-alert>
</template>
