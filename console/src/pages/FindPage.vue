<script setup lang="ts">
import { computed, onMounted, ref } from 'vue'

import { type SearchReport, search, type Source, sources, type Status } from '../api/client'
import { Refused } from '../api/client'
import OfferCard from '../components/OfferCard.vue'
import OfferDialog from '../components/OfferDialog.vue'
import ProblemNote from '../components/ProblemNote.vue'
import SourcesDialog from '../components/SourcesDialog.vue'
import TransferList from '../components/TransferList.vue'
import { useAttempt } from '../composables/useAttempt'
import { byModel } from '../fits'

/** Offers of the sources: search, preview, pull. */
const props = defineProps<{ status: Status | null }>()

const words = ref('')
const only = ref<string | null>(null)
const known = ref<Source[]>([])
const report = ref<SearchReport | null>(null)
const { busy, problem, attempt } = useAttempt()

const reference = ref('')
const previewing = ref(false)
const managing = ref(false)
const models = computed(() => byModel(report.value?.offers ?? []))
const running = computed(() =>
  (props.status?.transfers ?? []).filter((transfer) => transfer.kind === 'pull' && !transfer.ended_at),
)

const look = () => attempt(async () => (report.value = await search(words.value.trim(), only.value ?? undefined)))

const reload = () =>
  attempt(async () => {
    known.value = await sources()
    if (known.value.length > 0) await look()
  })

function open(what: string) {
  reference.value = what
  previewing.value = true
}

onMounted(reload)
</script>

<template>
  <div class="d-flex flex-column ga-4">
    <h1 class="text-headline-small font-weight-bold">{{ $t('pages.find') }}</h1>
    <form class="d-flex flex-wrap align-center ga-3" @submit.prevent="look">
      <v-text-field v-model="words" :label="$t('find.words')" density="compact" max-width="280" autofocus hide-details />
      <v-select
        v-model="only"
        :label="$t('find.source')"
        :items="known.map((source) => source.name)"
        :placeholder="$t('find.allSources')"
        persistent-placeholder
        clearable
        density="compact"
        max-width="200"
        hide-details
      />
      <v-btn type="submit" color="primary" :loading="busy">{{ $t('find.search') }}</v-btn>
      <v-spacer />
      <v-btn variant="text" @click="open('')">{{ $t('find.byReference') }}</v-btn>
      <v-btn variant="tonal" @click="managing = true">{{ $t('find.sources') }}</v-btn>
    </form>
    <TransferList v-if="running.length > 0" :transfers="running" />
    <ProblemNote v-if="problem" :problem="problem" />
    <v-alert
      v-for="found in report?.problems"
      :key="found.source"
      type="warning"
      variant="tonal"
      density="compact"
    >
      {{ $t('find.skipped', { source: found.source, problem: new Refused(found.problem).message }) }}
    </v-alert>
    <v-card v-if="!busy && known.length === 0" class="pa-6 text-center">
      <i18n-t keypath="find.noSources" scope="global">
        <template #command><code>deft source add NAME ADDRESS</code></template>
      </i18n-t>
    </v-card>
    <v-card v-else-if="report && models.length === 0" class="pa-6 text-center">
      {{ $t('find.nothing') }}
    </v-card>
    <OfferCard v-for="model in models" :key="model.name" :name="model.name" :variants="model.variants" @open="open" />
    <OfferDialog v-model="previewing" :reference="reference" />
    <SourcesDialog v-model="managing" :sources="known" @changed="reload" />
  </div>
</template>
