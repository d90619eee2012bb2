<script setup lang="ts">
import { computed, ref } from 'vue'

import { type FoundModel, importFile, scan } from '../api/client'
import { useAttempt } from '../composables/useAttempt'
import { bytes } from '../format'
import ProblemNote from './ProblemNote.vue'

/** Imports a file, or models found in a folder, into the depot. */
const open = defineModel<boolean>({ required: true })

const path = ref('')
const name = ref('')
const template = ref('')
const moveIt = ref(false)
const found = ref<FoundModel[] | null>(null)
const chosen = ref<string[]>([])
const { busy, problem, attempt } = useAttempt()

const isNew = (model: FoundModel) => !model.known_as && !model.refused
const isFile = computed(() => /\.(gguf|safetensors)$/.test(path.value.trim()))

const look = () =>
  attempt(async () => {
    found.value = await scan(path.value.trim())
    chosen.value = found.value.filter(isNew).map((model) => model.path)
  })

const start = () =>
  attempt(async () => {
    const move = moveIt.value
    if (isFile.value) {
      const own = { name: name.value.trim() || null, template: template.value.trim() || null }
      await importFile({ path: path.value.trim(), move, ...own })
    }
    const models = isFile.value ? [] : (found.value ?? [])
    for (const model of models.filter((model) => chosen.value.includes(model.path)))
      await importFile({ path: model.path, move, projector: model.projector ?? null })
    open.value = false
    found.value = null
  })
</script>

<template>
  <v-dialog v-model="open" max-width="720" scrollable :aria-label="$t('import.dialog')">
    <v-card>
      <v-card-title class="pt-4 font-weight-bold">{{ $t('import.title') }}</v-card-title>
      <v-card-text>
        <v-text-field
          v-model="path"
          :label="$t('import.path')"
          placeholder="/srv/models/larkfen-desk-q8_0.gguf"
          autofocus
          hide-details
        />
        <v-text-field v-if="isFile" v-model="name" class="mt-3" :label="$t('import.name')" hide-details />
        <v-text-field
          v-if="isFile"
          v-model="template"
          class="mt-3"
          :label="$t('import.template')"
          hide-details
        />
        <v-checkbox v-model="moveIt" :label="$t('import.move')" density="compact" hide-details />
        <v-table v-if="found" density="compact" :aria-label="$t('import.found')">
          <tbody>
            <tr v-for="model in found" :key="model.path">
              <td>
                <v-checkbox
                  v-model="chosen"
                  :value="model.path"
                  :disabled="!isNew(model)"
                  :label="model.name ?? $t('import.noModel')"
                  density="compact"
                  hide-details
                />
              </td>
              <td class="text-right text-no-wrap">{{ bytes(model.file_bytes) }}</td>
              <td class="text-body-small text-medium-emphasis">
                {{ model.known_as ? $t('import.inDepot', { name: model.known_as }) : (model.refused ?? model.path) }}
                <template v-if="model.projector">, {{ $t('import.projector') }}</template>
              </td>
            </tr>
          </tbody>
        </v-table>
        <div v-if="found && found.length === 0" class="text-medium-emphasis mt-3">{{ $t('import.empty') }}</div>
        <ProblemNote v-if="problem" class="mt-3" :problem="problem" />
      </v-card-text>
      <v-card-actions>
        <v-spacer />
        <v-btn variant="text" @click="open = false">{{ $t('common.cancel') }}</v-btn>
        <v-btn v-if="!isFile" :disabled="!path" :loading="busy" @click="look">{{ $t('import.scan') }}</v-btn>
        <v-btn
          color="primary"
          variant="flat"
          :disabled="isFile ? false : chosen.length === 0"
          :loading="busy"
          @click="start"
        >
          {{ $t('import.start') }}
        </v-btn>
      </v-card-actions>
    </v-card>
  </v-dialog>
</template>
