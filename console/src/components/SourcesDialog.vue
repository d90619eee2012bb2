<script setup lang="ts">
import { ref } from 'vue'

import {
  addSource,
  checkSource,
  type ListingRules,
  removeSource,
  type Source,
  type SourceCheck,
  type SourceKind,
} from '../api/client'
import { useAttempt } from '../composables/useAttempt'
import { seconds } from '../format'
import ConfirmButton from './ConfirmButton.vue'
import ProblemNote from './ProblemNote.vue'

/** The places that models come from: added, looked at, removed. */
defineProps<{ sources: Source[] }>()
const emit = defineEmits<{ changed: [] }>()
const open = defineModel<boolean>({ required: true })

const KINDS: { title: string; value: SourceKind | null }[] = [
  { title: 'told by the address', value: null },
  { title: 'web index', value: 'index' },
  { title: 'OCI registry', value: 'registry' },
  { title: 'git', value: 'git' },
  { title: 'listing', value: 'listing' },
  { title: 'folder', value: 'folder' },
]
const name = ref('')
const address = ref('')
const kind = ref<SourceKind | null>(null)
const rules = ref<ListingRules>({ download: '', entries: '', path: '/path', bytes: '', sha256: '' })
const user = ref('')
const token = ref('')
const checks = ref<Record<string, SourceCheck>>({})
const { busy, problem, attempt } = useAttempt()

/** What is left empty is not said. */
const asRules = (): ListingRules => ({
  ...rules.value,
  bytes: rules.value.bytes || null,
  sha256: rules.value.sha256 || null,
})

const add = () =>
  attempt(async () => {
    await addSource({
      name: name.value.trim(),
      address: address.value.trim(),
      kind: kind.value,
      listing: kind.value === 'listing' ? asRules() : null,
      user: user.value.trim() || null,
      token: token.value || null,
    })
    name.value = address.value = user.value = token.value = ''
    emit('changed')
  })

const check = (source: string) => attempt(async () => (checks.value[source] = await checkSource(source)))

const remove = (source: string) =>
  attempt(async () => {
    await removeSource(source)
    emit('changed')
  })

function told(found: SourceCheck): string {
  if (found.problem) return found.problem.detail
  const offers = found.variants == null ? 'offers what is asked for by name' : `offers ${found.variants} variants`
  return `${offers}, asked in ${seconds(found.seconds)}`
}
</script>

<template>
  <v-dialog v-model="open" max-width="760" scrollable>
    <v-card aria-label="sources">
      <v-card-title class="pt-4 font-weight-bold">Sources</v-card-title>
      <v-card-text>
        <div v-for="source in sources" :key="source.name" class="py-2" :data-source="source.name">
          <div class="d-flex flex-wrap align-center ga-2">
            <b>{{ source.name }}</b>
            <v-chip size="x-small" variant="outlined">{{ source.kind }}</v-chip>
            <span class="text-body-small text-medium-emphasis address">{{ source.address }}</span>
            <span v-if="source.token" class="text-body-small">token {{ source.token }}</span>
            <v-spacer />
            <v-btn size="small" variant="text" @click="check(source.name)">Check</v-btn>
            <ConfirmButton
              label="Remove"
              variant="text"
              :question="`Remove the source ${source.name} and its token? What came from it stays.`"
              @confirmed="remove(source.name)"
            />
          </div>
          <div v-if="checks[source.name]" class="text-body-small">{{ told(checks[source.name]!) }}</div>
        </div>
        <form class="d-flex flex-column ga-3 mt-4" @submit.prevent="add">
          <div class="text-title-small font-weight-bold">Add a source, or give one another token</div>
          <div class="d-flex flex-wrap ga-3">
            <v-text-field v-model="name" label="Name" density="compact" min-width="140" hide-details />
            <v-text-field
              v-model="address"
              label="Address, or folder on the service's machine"
              density="compact"
              min-width="300"
              hide-details
            />
            <v-select v-model="kind" label="Kind" :items="KINDS" density="compact" min-width="180" hide-details />
          </div>
          <div v-if="kind === 'listing'" class="d-flex flex-wrap ga-3">
            <v-text-field
              v-model="rules.download"
              label="Where a file is, with {repo}, {revision}, {path}"
              density="compact"
              min-width="100%"
              hide-details
            />
            <v-text-field v-model="rules.entries" label="Pointer to the entries" density="compact" min-width="140" hide-details />
            <v-text-field v-model="rules.path" label="to a path" density="compact" min-width="110" hide-details />
            <v-text-field v-model="rules.bytes" label="to a length" density="compact" min-width="110" hide-details />
            <v-text-field v-model="rules.sha256" label="to a SHA-256" density="compact" min-width="110" hide-details />
          </div>
          <div class="d-flex flex-wrap ga-3">
            <v-text-field v-model="user" label="User, where a token has one" density="compact" hide-details />
            <v-text-field
              v-model="token"
              label="Token, where one is asked for"
              type="password"
              autocomplete="off"
              density="compact"
              hide-details
            />
          </div>
          <ProblemNote v-if="problem" :problem="problem" />
          <div class="d-flex justify-end ga-2">
            <v-btn variant="text" @click="open = false">Close</v-btn>
            <v-btn type="submit" color="primary" :disabled="!name || !address" :loading="busy">Add</v-btn>
          </div>
        </form>
      </v-card-text>
    </v-card>
  </v-dialog>
</template>

<style scoped>
.address {
  overflow-wrap: anywhere;
}
</style>
