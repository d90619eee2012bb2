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
import { t } from '../i18n'

/** The sources: added, checked, removed. */
defineProps<{ sources: Source[] }>()
const emit = defineEmits<{ changed: [] }>()
const open = defineModel<boolean>({ required: true })

const KINDS: { title: string; value: SourceKind | null }[] = [
  { title: t('sources.recognised'), value: null },
  { title: t('sources.index'), value: 'index' },
  { title: t('sources.registry'), value: 'registry' },
  { title: t('sources.git'), value: 'git' },
  { title: t('sources.listing'), value: 'listing' },
  { title: t('sources.folder'), value: 'folder' },
]
const name = ref('')
const address = ref('')
const kind = ref<SourceKind | null>(null)
const rules = ref<ListingRules>({ download: '', entries: '', path: '/path', bytes: '', sha256: '' })
const user = ref('')
const token = ref('')
const checks = ref<Record<string, SourceCheck>>({})
const { busy, problem, attempt } = useAttempt()

/** Empty fields are not sent. */
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
  const time = seconds(found.seconds)
  return found.variants == null ? t('sources.notListed', { time }) : t('sources.offers', { time, count: found.variants })
}
</script>

<template>
  <v-dialog v-model="open" max-width="760" scrollable :aria-label="$t('sources.dialog')">
    <v-card>
      <v-card-title class="pt-4 font-weight-bold">{{ $t('sources.title') }}</v-card-title>
      <v-card-text>
        <div v-for="source in sources" :key="source.name" class="py-2" :data-source="source.name">
          <div class="d-flex flex-wrap align-center ga-2">
            <b>{{ source.name }}</b>
            <v-chip size="x-small" variant="outlined">{{ $t(`sources.${source.kind}`) }}</v-chip>
            <span class="text-body-small text-medium-emphasis address">{{ source.address }}</span>
            <span v-if="source.token" class="text-body-small">{{ $t('sources.token', { place: source.token }) }}</span>
            <v-spacer />
            <v-btn size="small" variant="text" @click="check(source.name)">{{ $t('sources.check') }}</v-btn>
            <ConfirmButton
              :label="$t('sources.remove')"
              variant="text"
              :question="$t('sources.removeQuestion', { name: source.name })"
              @confirmed="remove(source.name)"
            />
          </div>
          <div v-if="checks[source.name]" class="text-body-small">{{ told(checks[source.name]!) }}</div>
        </div>
        <form class="d-flex flex-column ga-3 mt-4" @submit.prevent="add">
          <div class="text-title-small font-weight-bold">{{ $t('sources.addTitle') }}</div>
          <div class="d-flex flex-wrap ga-3">
            <v-text-field v-model="name" :label="$t('sources.name')" density="compact" min-width="140" hide-details />
            <v-text-field
              v-model="address"
              :label="$t('sources.address')"
              density="compact"
              min-width="300"
              hide-details
            />
            <v-select v-model="kind" :label="$t('sources.kind')" :items="KINDS" density="compact" min-width="180" hide-details />
          </div>
          <div v-if="kind === 'listing'" class="d-flex flex-wrap ga-3">
            <v-text-field
              v-model="rules.download"
              :label="$t('sources.download')"
              placeholder="https://hub.example/{repo}/{revision}/{path}"
              density="compact"
              min-width="100%"
              hide-details
            />
            <v-text-field v-model="rules.entries" :label="$t('sources.entries')" density="compact" min-width="140" hide-details />
            <v-text-field v-model="rules.path" :label="$t('sources.path')" density="compact" min-width="110" hide-details />
            <v-text-field v-model="rules.bytes" :label="$t('sources.bytes')" density="compact" min-width="110" hide-details />
            <v-text-field v-model="rules.sha256" :label="$t('sources.sha256')" density="compact" min-width="110" hide-details />
          </div>
          <div class="d-flex flex-wrap ga-3">
            <v-text-field v-model="user" :label="$t('sources.user')" density="compact" hide-details />
            <v-text-field
              v-model="token"
              :label="$t('sources.tokenField')"
              type="password"
              autocomplete="off"
              density="compact"
              hide-details
            />
          </div>
          <ProblemNote v-if="problem" :problem="problem" />
          <div class="d-flex justify-end ga-2">
            <v-btn variant="text" @click="open = false">{{ $t('common.close') }}</v-btn>
            <v-btn type="submit" color="primary" :disabled="!name || !address" :loading="busy">{{ $t('sources.add') }}</v-btn>
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
