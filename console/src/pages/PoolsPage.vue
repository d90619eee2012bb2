<script setup lang="ts">
import { computed, ref } from 'vue'

import { asRefused, type Instance, type Refused, retry, type Status, unload } from '../api/client'
import CallList from '../components/CallList.vue'
import DecisionList from '../components/DecisionList.vue'
import HistoryPanel from '../components/HistoryPanel.vue'
import InstanceCard from '../components/InstanceCard.vue'
import LoadDialog from '../components/LoadDialog.vue'
import PoolBar from '../components/PoolBar.vue'
import ProblemNote from '../components/ProblemNote.vue'
import { useDepot } from '../composables/useDepot'

defineProps<{ status: Status | null }>()

const { variants, refresh } = useDepot()
/** The instance whose settings are to be changed. */
const changed = ref<Instance | null>(null)
const variant = computed(() => variants.value.find((found) => found.name === changed.value?.name))
const dialog = computed({
  get: () => changed.value !== null,
  set: (open) => (changed.value = open ? changed.value : null),
})
const busy = ref(new Set<string>())
const problem = ref<Refused | null>(null)

/** Opens the load form with an instance's settings. */
async function change(instance: Instance) {
  await refresh()
  changed.value = instance
}

/** Does something with an instance, and shows why where it cannot be done. */
async function act(id: string, what: (id: string) => Promise<unknown>) {
  busy.value.add(id)
  problem.value = null
  try {
    await what(id)
  } catch (error) {
    problem.value = asRefused(error)
  } finally {
    busy.value.delete(id)
  }
}
</script>

<template>
  <div v-if="!status" class="text-medium-emphasis">{{ $t('common.waitingForService') }}</div>
  <div v-else class="d-flex flex-column ga-4">
    <h1 class="text-headline-small font-weight-bold">{{ $t('pages.pools') }}</h1>
    <ProblemNote v-if="problem" :problem="problem" />
    <PoolBar v-for="pool in status.pools" :key="pool.name" :pool="pool" :instances="status.instances" />
    <CallList v-if="status.instances.length > 0 || status.calls?.length" :calls="status.calls ?? []" />
    <v-card v-if="status.instances.length === 0" class="pa-6 text-center">
      <div class="mb-3">{{ $t('pools.nothingLoaded') }}</div>
      <v-btn color="primary" to="/depot">{{ $t('pools.choose') }}</v-btn>
    </v-card>
    <v-row v-else density="comfortable">
      <v-col v-for="instance in status.instances" :key="instance.id" cols="12" sm="6" lg="4">
        <InstanceCard :instance="instance" :busy="busy.has(instance.id)" @unload="act($event, unload)" @retry="act($event, retry)" @settings="change" />
      </v-col>
    </v-row>
    <LoadDialog v-if="changed && variant" v-model="dialog" :variant="variant" :settings="changed.settings" />
    <HistoryPanel />
    <DecisionList :decisions="status.decisions ?? []" />
  </div>
</template>
