<script setup lang="ts">
import HintMark from './HintMark.vue'

/** A term with its explanation. */
defineProps<{ term: string; hint: string }>()
</script>

<template>
  <span>{{ term }}<HintMark :hint="hint" /></span>
</template>
