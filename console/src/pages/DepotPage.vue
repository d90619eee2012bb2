<script setup lang="ts">
import { computed, onMounted, ref, watch } from 'vue'

import { asRefused, type DepotUsage, type Refused, type Status, unload, usage, type Variant } from '../api/client'
import FactList from '../components/FactList.vue'
import ImportDialog from '../components/ImportDialog.vue'
import LoadDialog from '../components/LoadDialog.vue'
import ProblemNote from '../components/ProblemNote.vue'
import TransferList from '../components/TransferList.vue'
import VariantMenu from '../components/VariantMenu.vue'
import { useDepot } from '../composables/useDepot'
import { useVariants } from '../composables/useVariants'
import { bytes, count, day } from '../format'
import { t } from '../i18n'

const props = defineProps<{ status: Status | null }>()
const { variants, loading, problem, refresh } = useDepot()
const { words, order, shown } = useVariants(variants)

const ORDERS = [
  { title: t('depot.age'), value: 'age' },
  { title: t('depot.name'), value: 'name' },
  { title: t('depot.size'), value: 'size' },
  { title: t('depot.used'), value: 'used' },
]
const importing = ref(false)
const disk = ref<DepotUsage | null>(null)
const transfers = computed(() => props.status?.transfers ?? [])
/** Changes whenever a transfer ends: then there may be something new. */
const ended = computed(() => transfers.value.filter((transfer) => transfer.ended_at).length)

async function reload() {
  await refresh()
  disk.value = await usage().catch(() => null)
}
watch(ended, reload)
onMounted(async () => (disk.value = await usage().catch(() => null)))

const chosen = ref<Variant | null>(null)
const open = ref(false)
const failed = ref<Refused | null>(null)
const instances = computed(() => new Map(props.status?.instances.map((i) => [i.name, i])))

function choose(variant: Variant) {
  chosen.value = variant
  open.value = true
}

async function end(name: string) {
  const instance = instances.value.get(name)
  failed.value = null
  try {
    if (instance) await unload(instance.id)
  } catch (error) {
    failed.value = asRefused(error)
  }
}

function facts(variant: Variant): [string, string | null | undefined][] {
  const { facts, last_used } = variant
  const calls = count(variant.calls ?? 0)
  const types = facts.mix.map((share) => `${share.tensor_type} ${bytes(share.bytes)}`)
  return [
    [t('depot.serves'), facts.serves?.join(', ')],
    [t('depot.family'), facts.family],
    [t('depot.parameters'), count(facts.parameters)],
    [t('depot.types'), types.join(', ')],
    [t('depot.context'), t('common.tokens', { count: count(facts.context_length) })],
    [t('depot.file'), bytes(variant.file_bytes)],
    [t('depot.template'), t(facts.has_template ? 'common.inTheFile' : 'common.none')],
    [t('depot.calls'), last_used ? t('depot.callsLast', { count: calls, time: day(last_used) }) : calls],
    [t('depot.licence'), facts.licence ?? t('common.notStated')],
  ]
}
</script>

<template>
  <div class="d-flex flex-column ga-4">
    <h1 class="text-headline-small font-weight-bold">{{ $t('pages.depot') }}</h1>
    <ProblemNote v-if="problem ?? failed" :problem="(problem ?? failed)!" />
    <div class="d-flex flex-wrap align-center ga-3">
      <v-text-field
        v-model="words"
        :label="$t('depot.filter')"
        density="compact"
        max-width="260"
        clearable
        hide-details
        @click:clear="words = ''"
      />
      <v-select v-model="order" :label="$t('depot.sort')" :items="ORDERS" density="compact" max-width="200" hide-details />
      <span v-if="disk" class="text-body-small text-medium-emphasis">
        {{ $t('depot.usage', { total: bytes(disk.total), free: bytes(disk.free) }) }}
      </span>
      <v-spacer />
      <v-btn color="primary" variant="tonal" @click="importing = true">{{ $t('depot.import') }}</v-btn>
    </div>
    <TransferList v-if="transfers.length > 0" :transfers="transfers" />
    <v-progress-linear v-if="loading" indeterminate :aria-label="$t('common.waitingForService')" />
    <v-card v-else-if="variants.length === 0 && !problem" class="pa-6 text-center">
      <i18n-t keypath="depot.empty" scope="global">
        <template #command><code>deft depot import FILE</code></template>
      </i18n-t>
    </v-card>
    <v-card v-for="variant in shown" :key="variant.name" class="pa-4" :data-variant="variant.name">
      <div class="d-flex flex-wrap align-center ga-2">
        <router-link class="text-title-medium font-weight-bold name" :to="`/depot/${variant.name}`">
          {{ variant.name }}
        </router-link>
        <v-chip v-if="instances.has(variant.name)" size="small" color="success" variant="tonal">
          {{ $t(`states.${instances.get(variant.name)!.state}`) }}
        </v-chip>
        <v-chip size="small" variant="outlined">{{ $t(variant.stored ? 'depot.stored' : 'depot.registered') }}</v-chip>
        <v-spacer />
        <v-btn v-if="instances.has(variant.name)" size="small" variant="outlined" @click="end(variant.name)">
          {{ $t('depot.unload') }}
        </v-btn>
        <v-btn v-else size="small" color="primary" @click="choose(variant)">{{ $t('depot.load') }}</v-btn>
        <VariantMenu :variant="variant" @changed="reload" />
      </div>
      <div class="text-body-medium text-medium-emphasis mb-2">{{ variant.facts.description }}</div>
      <FactList :facts="facts(variant)" />
      <v-alert
        v-for="warning in variant.facts.warnings"
        :key="warning"
        class="mt-2"
        type="warning"
        variant="tonal"
        density="compact"
      >
        {{ warning }}
      </v-alert>
    </v-card>
    <ImportDialog v-model="importing" />
    <LoadDialog v-if="chosen" :key="chosen.name" v-model="open" :variant="chosen" />
  </div>
</template>

<style scoped>
.name {
  color: inherit;
}
</style>
