<script setup lang="ts">
import { computed, ref } from 'vue'

import { asRefused, type Refused, type Status, unload, type Variant } from '../api/client'
import LoadDialog from '../components/LoadDialog.vue'
import ProblemNote from '../components/ProblemNote.vue'
import { useDepot } from '../composables/useDepot'
import { bytes, count } from '../format'

const props = defineProps<{ status: Status | null }>()
const { variants, loading, problem } = useDepot()

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

function types(variant: Variant): string {
  return variant.facts.mix.map((share) => `${share.tensor_type} ${bytes(share.bytes)}`).join(', ')
}
</script>

<template>
  <div class="d-flex flex-column ga-4">
    <ProblemNote v-if="problem ?? failed" :problem="(problem ?? failed)!" />
    <v-progress-linear v-if="loading" indeterminate />
    <v-card v-else-if="variants.length === 0 && !problem" class="pa-6 text-center">
      The depot is empty. Take a model file in: <code>deft depot register FILE</code>
    </v-card>
    <v-card v-for="variant in variants" :key="variant.name" class="pa-4" :data-variant="variant.name">
      <div class="d-flex flex-wrap align-center ga-2">
        <router-link class="text-title-medium font-weight-bold name" :to="`/depot/${variant.name}`">
          {{ variant.name }}
        </router-link>
        <v-chip v-if="instances.has(variant.name)" size="small" color="success" variant="tonal">
          {{ instances.get(variant.name)?.state }}
        </v-chip>
        <v-spacer />
        <v-btn v-if="instances.has(variant.name)" size="small" variant="outlined" @click="end(variant.name)">
          Unload
        </v-btn>
        <v-btn v-else size="small" color="primary" @click="choose(variant)">Load</v-btn>
      </div>
      <div class="text-body-medium text-medium-emphasis mb-2">{{ variant.facts.description }}</div>
      <dl class="facts text-body-medium">
        <div><dt>serves</dt><dd>{{ variant.facts.serves?.join(', ') }}</dd></div>
        <div><dt>family</dt><dd>{{ variant.facts.family }}</dd></div>
        <div><dt>parameters</dt><dd>{{ count(variant.facts.parameters) }}</dd></div>
        <div><dt>types</dt><dd>{{ types(variant) }}</dd></div>
        <div><dt>context</dt><dd>{{ count(variant.facts.context_length) }} tokens</dd></div>
        <div><dt>file</dt><dd>{{ bytes(variant.file_bytes) }}</dd></div>
        <div><dt>template</dt><dd>{{ variant.facts.has_template ? 'in the file' : 'none' }}</dd></div>
        <div><dt>licence</dt><dd>{{ variant.facts.licence ?? 'not said' }}</dd></div>
      </dl>
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
    <LoadDialog v-if="chosen" :key="chosen.name" v-model="open" :variant="chosen" />
  </div>
</template>

<style scoped>
.name {
  color: inherit;
}
.facts {
  display: flex;
  flex-wrap: wrap;
  gap: 8px 28px;
}
dt {
  font-size: 0.75rem;
  opacity: 0.7;
}
dd {
  margin: 0;
  font-variant-numeric: tabular-nums;
}
</style>
