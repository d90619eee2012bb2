<script setup lang="ts">
/** Shown to a browser without permission to manage. */
import { mdiKeyOutline } from '@mdi/js'
import { onMounted } from 'vue'

import { t } from '../i18n'

const link = new URLSearchParams(window.location.search).get('link')

onMounted(() => (document.title = `${t('pages.entry')} · ${t('product')}`))
</script>

<template>
  <v-card class="mx-auto mt-8 pa-6" max-width="560" border flat>
    <div class="d-flex align-center ga-3 mb-3">
      <v-icon :icon="mdiKeyOutline" size="28" color="primary" />
      <h1 class="text-title-large">{{ $t('entry.title') }}</h1>
    </div>
    <v-alert v-if="link === 'unusable'" type="warning" variant="tonal" density="compact" class="mb-3">
      {{ $t('entry.unusable') }}
    </v-alert>
    <p>{{ $t('entry.how') }}</p>
    <pre class="command my-3">deft console</pre>
    <p>{{ $t('entry.then') }}</p>
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
