<script setup lang="ts">
import { computed, ref, watch } from 'vue'

import { type Preview, preview, pull, Refused } from '../api/client'
import { useAttempt } from '../composables/useAttempt'
import { fits } from '../fits'
import { bytes, count } from '../format'
import FactList from './FactList.vue'
import ProblemNote from './ProblemNote.vue'
import { t } from '../i18n'

/** What an offer needs on this machine, before its weights are pulled. */
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

const start = () =>
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
  const room =
    disk.after == null
      ? t('offer.tooLittle', { bytes: bytes(disk.pull), missing: bytes(disk.pull - disk.free) })
      : t('offer.enough', { bytes: bytes(disk.pull), after: bytes(disk.after) })
  return [
    [t('offer.name'), name],
    [t('offer.family'), offer.family],
    [t('offer.serves'), offer.serves?.join(', ')],
    [t('offer.parameters'), offer.parameters ? count(offer.parameters) : undefined],
    [t('offer.types'), offer.quantisation],
    [t('offer.context'), facts?.context_length ? t('common.tokens', { count: count(facts.context_length) }) : undefined],
    [t('offer.template'), facts ? t(facts.has_template ? 'common.inTheFile' : 'common.none') : undefined],
    [t('offer.licence'), offer.licence ?? t('common.notStated')],
    [t('offer.toPull'), room],
  ]
})
const impossible = computed(() => !found.value || !!found.value.refused || found.value.disk.after == null)
</script>

<template>
  <v-dialog v-model="open" max-width="760" scrollable :aria-label="$t('offer.dialog')">
    <v-card>
      <v-card-title class="pt-4 font-weight-bold">{{ found?.offer.reference ?? $t('offer.title') }}</v-card-title>
      <v-card-text>
        <form v-if="!reference" class="d-flex ga-2 mb-3" @submit.prevent="look">
          <v-text-field
            v-model="written"
            :label="$t('offer.reference')"
            placeholder="source:model/variant"
            density="compact"
            autofocus
            hide-details
          />
          <v-btn type="submit" :loading="busy">{{ $t('offer.show') }}</v-btn>
        </form>
        <v-progress-linear v-if="busy" indeterminate :aria-label="$t('common.waitingForService')" />
        <ProblemNote v-if="problem" :problem="problem" />
        <template v-if="found">
          <p class="text-body-medium text-medium-emphasis mb-3">{{ found.offer.description }}</p>
          <ProblemNote v-if="found.refused" class="mb-3" :problem="new Refused(found.refused)" />
          <v-alert v-for="note in found.notes" :key="note" class="mb-3" type="info" variant="tonal" density="compact">
            {{ note }}
          </v-alert>
          <FactList class="mb-3" :aria-label="$t('offer.facts')" :facts="facts" />
          <ul class="text-body-small text-medium-emphasis mb-3 files">
            <li v-for="file in found.files" :key="file.name">
              {{
                $t(file.here ? 'offer.fileInDepot' : 'offer.file', {
                  name: file.name,
                  role: file.role,
                  size: file.bytes ? bytes(file.bytes) : $t('find.sizeUnknown'),
                })
              }}
            </li>
          </ul>
          <v-table v-if="found.plans && found.plans.length > 0" density="compact" :aria-label="$t('offer.plans')">
            <thead>
              <tr>
                <th scope="col" class="text-right">{{ $t('offer.context') }}</th>
                <th scope="col">{{ $t('offer.cache') }}</th>
                <th scope="col" class="text-right">{{ $t('offer.memory') }}</th>
                <th scope="col">{{ $t('offer.fit') }}</th>
              </tr>
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
            {{
              $t('offer.speed', {
                rate: count(Math.round(found.speed.tokens_per_second)),
                bandwidth: bytes(Math.round(found.speed.memory_bytes_per_second)),
              })
            }}
          </p>
          <div class="d-flex flex-wrap ga-3 mt-4">
            <v-text-field
              v-model="name"
              :label="$t('offer.nameInDepot')"
              :placeholder="found.name"
              persistent-placeholder
              density="compact"
              min-width="220"
              hide-details
            />
            <v-text-field
              v-model="limit"
              :label="$t('offer.rateLimit')"
              placeholder="20 MiB/s"
              density="compact"
              min-width="160"
              hide-details
            />
          </div>
        </template>
      </v-card-text>
      <v-card-actions>
        <span v-if="found?.offer.known_as" class="text-body-small ml-4">{{ $t('find.inDepot', { name: found.offer.known_as }) }}</span>
        <v-spacer />
        <v-btn variant="text" @click="open = false">{{ $t('common.close') }}</v-btn>
        <v-btn color="primary" variant="flat" :disabled="impossible" :loading="busy" @click="start">{{ $t('offer.pull') }}</v-btn>
      </v-card-actions>
    </v-card>
  </v-dialog>
</template>

<style scoped>
.files {
  padding-left: 18px;
}
</style>
