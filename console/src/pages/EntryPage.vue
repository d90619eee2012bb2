<script setup lang="ts">
/** What a browser sees that may not manage. */
import { mdiKeyOutline } from '@mdi/js'

const link = new URLSearchParams(window.location.search).get('link')
</script>

<template>
  <v-card class="mx-auto mt-8 pa-6" max-width="560" border flat>
    <div class="d-flex align-center ga-3 mb-3">
      <v-icon :icon="mdiKeyOutline" size="28" color="primary" />
      <h1 class="text-title-large">This browser has no permission</h1>
    </div>
    <v-alert v-if="link === 'unusable'" type="warning" variant="tonal" density="compact" class="mb-3">
      The link was used already, or it is older than five minutes.
    </v-alert>
    <p>Only operators manage this service. On its machine, as its user, type:</p>
    <pre class="command my-3">deft console</pre>
    <p>Then open the printed link in this browser. The link works once, for five minutes.</p>
  </v-card>
</template>

<style scoped>
.command {
  padding: 10px 14px;
  border-radius: 6px;
  background: rgba(var(--v-theme-on-surface), 0.06);
  user-select: all;
}
</style>
