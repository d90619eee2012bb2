<script setup lang="ts">
import { mdiChartDonut, mdiForumOutline, mdiMagnify, mdiSwapVertical, mdiThemeLightDark, mdiWarehouse } from '@mdi/js'
import { useTheme } from 'vuetify'

import { stopTracing } from './api/client'
import { useStatus } from './composables/useStatus'
import { clock } from './format'
import EntryPage from './pages/EntryPage.vue'
import { storeTheme } from './theme'

const { status, live, refused } = useStatus()
const theme = useTheme()

const PAGES = [
  { path: '/', title: 'navigation.pools', icon: mdiChartDonut },
  { path: '/calls', title: 'navigation.calls', icon: mdiSwapVertical },
  { path: '/depot', title: 'navigation.depot', icon: mdiWarehouse },
  { path: '/find', title: 'navigation.find', icon: mdiMagnify },
  { path: '/try', title: 'navigation.try', icon: mdiForumOutline },
]

function otherTheme() {
  const other = theme.global.current.value.dark ? 'light' : 'dark'
  theme.change(other)
  storeTheme(other)
}
</script>

<template>
  <v-app>
    <v-app-bar flat color="surface" border="b" density="comfortable">
      <template #prepend><img src="/deft.svg" alt="" width="30" height="30" class="ml-3" /></template>
      <v-app-bar-title class="title">{{ $t('product') }}</v-app-bar-title>
      <nav v-if="!refused?.needsPermission" class="d-flex ga-1 mr-2" :aria-label="$t('pages.navigation')">
        <v-btn
          v-for="page in PAGES"
          :key="page.path"
          :to="page.path"
          :aria-label="$t(page.title)"
          :prepend-icon="page.icon"
          class="page"
          variant="text"
        >
          {{ $t(page.title) }}
        </v-btn>
      </nav>
      <v-btn :icon="mdiThemeLightDark" :aria-label="$t('common.theme')" size="small" @click="otherTheme" />
    </v-app-bar>
    <v-main>
      <v-container class="py-5" max-width="1180">
        <v-alert v-if="status && !live && !refused?.needsPermission" type="error" variant="tonal" density="compact" class="mb-4">
          {{ $t('app.silent') }}
        </v-alert>
        <v-alert v-else-if="!status && refused && !refused.needsPermission" type="error" variant="tonal" class="mb-4">
          {{ $t('app.nothing', { detail: refused.problem.detail, wayOut: refused.problem.way_out ?? '' }) }}
        </v-alert>
        <v-alert v-if="status && !status.database.up" type="warning" variant="tonal" density="compact" class="mb-4">
          {{ $t('app.noDatabase') }}
        </v-alert>
        <v-alert v-if="status?.tracing?.length" type="warning" variant="tonal" density="compact" class="mb-4" role="status">
          <div class="d-flex flex-wrap align-center ga-2 text-high-emphasis">
            {{ $t('traces.on', { models: status.tracing.map((one) => $t('traces.until', { model: one.model, time: clock(one.until) })).join(', ') }) }}
            <v-spacer />
            <v-btn size="small" variant="outlined" @click="stopTracing()">{{ $t('traces.stop') }}</v-btn>
          </div>
        </v-alert>
        <entry-page v-if="refused?.needsPermission" />
        <router-view v-else-if="status || !refused" :status="status" />
      </v-container>
      <footer v-if="status" class="text-body-small text-medium-emphasis text-center pb-4">
        {{ $t('app.footer', { version: status.version, node: status.node, address: status.address, database: status.database.kind }) }}
      </footer>
    </v-main>
  </v-app>
</template>

<style>
h1 {
  margin: 0;
}
.title {
  font-weight: 700;
  letter-spacing: 0.01em;
}
@media (max-width: 600px) {
  .title,
  .page .v-btn__content {
    display: none;
  }
  .page {
    min-width: 0;
  }
  .page .v-btn__prepend {
    margin-inline: 0;
  }
}
</style>
