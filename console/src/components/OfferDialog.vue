<script setup lang="ts">
import { computed, ref, watch } from 'vue'

import { type Preview, preview, pull, Refused } from '../api/client'
import { useAttempt } from '../composables/useAttempt'
import { fits } from '../fits'
import { bytes, count } from '../format'
import FactList from './FactList.vue'
import ProblemNote from './ProblemNote.vue'

/** What an offer would mean here, before its weights are fetched. */
const props = defineProps<{ reference: string }>()
const open = defineModel<boolean>({ required: true })

const written = ref('')
const name = ref('')
const limit = ref('')
const found = ref<Preview | null>(null)
const { busy, problem, attempt } = useAttempt()

const look = () =>
  attempt(async () => {
    found.value = null
    if (written.value.trim()) found.value = await preview(written.value.trim())
  })

watch(open, (isOpen) => {
  if (!isOpen) return
  written.value = props.reference
  name.value = limit.value = ''
  void look()
})

const fetchIt = () =>
  attempt(async () => {
    await pull({
      reference: written.value.trim(),
      name: name.value.trim() || null,
      limit: limit.value.trim() || null,
    })
    open.value = false
  })

const facts = computed((): [string, string | null | undefined][] => {
  if (!found.value) return []
  const { offer, name, disk, facts } = found.value
  const after = disk.after == null ? `${bytes(disk.fetch - disk.free)} too little` : `${bytes(disk.after)} free afterwards`
  return [
    ['would be', name],
    ['family', offer.family],
    ['serves', offer.serves?.join(', ')],
    ['parameters', offer.parameters ? count(offer.parameters) : undefined],
    ['types', offer.quantisation],
    ['context', facts?.context_length ? `${count(facts.context_length)} tokens` : undefined],
    ['template', facts ? (facts.has_template ? 'in the file' : 'none') : undefined],
    ['licence', offer.licence ?? 'not said'],
    ['to fetch', `${bytes(disk.fetch)}; ${after}`],
  ]
})
const impossible = computed(() => !found.value || !!found.value.refused || found.value.disk.after == null)
</script>

<template>
  <v-dialog v-model="open" max-width="760" scrollable>
    <v-card aria-label="preview">
      <v-card-title class="pt-4 font-weight-bold">{{ found?.offer.reference ?? 'Preview' }}</v-card-title>
      <v-card-text>
        <form v-if="!reference" class="d-flex ga-2 mb-3" @submit.prevent="look">
          <v-text-field
            v-model="written"
            label="Reference or address"
            placeholder="source:model/variant"
            density="compact"
            autofocus
            hide-details
          />
          <v-btn type="submit" :loading="busy">Look</v-btn>
        </form>
        <v-progress-linear v-if="busy" indeterminate />
        <ProblemNote v-if="problem" :problem="problem" />
        <template v-if="found">
          <p class="text-body-medium text-medium-emphasis mb-3">{{ found.offer.description }}</p>
          <ProblemNote v-if="found.refused" class="mb-3" :problem="new Refused(found.refused)" />
          <v-alert v-for="note in found.notes" :key="note" class="mb-3" type="info" variant="tonal" density="compact">
            {{ note }}
          </v-alert>
          <FactList class="mb-3" aria-label="offer" :facts="facts" />
          <ul class="text-body-small text-medium-emphasis mb-3 files">
            <li v-for="file in found.files" :key="file.name">
              {{ file.name }} ({{ file.role }}, {{ file.bytes ? bytes(file.bytes) : 'size not told'
              }}{{ file.here ? ', here already' : '' }})
            </li>
          </ul>
          <v-table v-if="found.plans && found.plans.length > 0" density="compact" aria-label="plans">
            <thead>
              <tr><th class="text-right">context</th><th>cache</th><th class="text-right">memory</th><th /></tr>
            </thead>
            <tbody>
              <tr v-for="plan in found.plans" :key="`${plan.context} ${plan.cache}`">
                <td class="text-right">{{ count(plan.context) }}</td>
                <td>{{ plan.cache }}</td>
                <td class="text-right">{{ bytes(plan.fit.memory) }}</td>
                <td>
                  <v-chip size="small" variant="tonal" :color="fits(plan.fit).colour">{{ fits(plan.fit).text }}</v-chip>
                </td>
              </tr>
            </tbody>
          </v-table>
          <p v-if="found.speed" class="text-body-small text-medium-emphasis mt-3">
            An answer may come at up to {{ Math.round(found.speed.tokens_per_second) }} tokens/s: an estimate, from its size
            and {{ bytes(Math.round(found.speed.memory_bytes_per_second)) }}/s of memory measured here.
          </p>
          <div class="d-flex flex-wrap ga-3 mt-4">
            <v-text-field
              v-model="name"
              label="Name in the depot"
              :placeholder="found.name"
              persistent-placeholder
              density="compact"
              min-width="220"
              hide-details
            />
            <v-text-field
              v-model="limit"
              label="Fetch no faster than"
              placeholder="20 MiB/s"
              density="compact"
              min-width="160"
              hide-details
            />
          </div>
        </template>
      </v-card-text>
      <v-card-actions>
        <span v-if="found?.offer.known_as" class="text-body-small ml-4">here as {{ found.offer.known_as }}</span>
        <v-spacer />
        <v-btn variant="text" @click="open = false">Close</v-btn>
        <v-btn color="primary" variant="flat" :disabled="impossible" :loading="busy" @click="fetchIt">Fetch</v-btn>
      </v-card-actions>
    </v-card>
  </v-dialog>
</template>

<style scoped>
.files {
  padding-left: 18px;
}
</style>
