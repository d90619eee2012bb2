<script setup lang="ts">
import { computed, ref, watch } from 'vue'

import { load, type Plan, plan, type PoolPlan, Refused, type Variant, type Way } from '../api/client'
import { bytes, count } from '../format'
import ProblemNote from './ProblemNote.vue'

const props = defineProps<{ variant: Variant }>()
const open = defineModel<boolean>({ required: true })
const emit = defineEmits<{ loaded: [name: string] }>()

const context = ref(Math.min(props.variant.facts.context_length, 8192))
const lanes = ref(2)
const cache = ref<'f16' | 'q8_0' | 'f32'>('f16')
const planned = ref<Plan | null>(null)
const pools = ref<PoolPlan[]>([])
const problem = ref<Refused | null>(null)
const loading = ref(false)

const settings = computed(() => ({ context: context.value, lanes: lanes.value, cache: cache.value }))

/** The plan moves with the controls; an answer to older settings is dropped. */
let asked = 0
async function replan() {
  const mine = ++asked
  try {
    const report = await plan([{ model: props.variant.name, settings: settings.value }])
    const answer = report.plans[0]
    if (mine !== asked || !answer) return
    planned.value = answer
    pools.value = report.pools
    problem.value = answer.refusal ? new Refused(answer.refusal) : null
  } catch (error) {
    if (mine === asked && error instanceof Refused) problem.value = error
  }
}

/** Takes a way out by a click. */
function take(way: Way) {
  context.value = way.settings?.context ?? context.value
  lanes.value = way.settings?.lanes ?? lanes.value
  cache.value = way.settings?.cache ?? cache.value
}

/** Shares of a pool's limit: held now, and what this load would add. */
function shares(pool: PoolPlan) {
  const share = (bytes: number) => Math.min((100 * bytes) / pool.limit, 100)
  const total = planned.value?.refusal ? planned.value.total : pool.after - pool.reserved
  return { held: share(pool.reserved), added: share(total) }
}

async function start() {
  loading.value = true
  try {
    const instance = await load(props.variant.name, settings.value)
    open.value = false
    emit('loaded', instance.name)
  } catch (error) {
    problem.value = error instanceof Refused ? error : new Refused({ detail: String(error) })
  } finally {
    loading.value = false
  }
}

watch(settings, replan, { immediate: true })
</script>

<template>
  <v-dialog v-model="open" max-width="560">
    <v-card class="pa-5" aria-label="load">
      <div class="text-title-large font-weight-bold mb-4">Load {{ variant.name }}</div>
      <v-slider
        v-model="context"
        label="Context"
        :min="64"
        :max="variant.facts.context_length"
        :step="64"
        thumb-label
        hide-details
      >
        <template #append><span class="figure">{{ count(context) }} tokens</span></template>
      </v-slider>
      <v-slider v-model="lanes" label="Lanes" :min="1" :max="16" :step="1" thumb-label hide-details>
        <template #append><span class="figure">{{ lanes }}</span></template>
      </v-slider>
      <v-btn-toggle v-model="cache" mandatory density="compact" class="my-3" aria-label="cache precision">
        <v-btn value="f16">f16 cache</v-btn>
        <v-btn value="q8_0">q8_0 cache</v-btn>
        <v-btn value="f32">f32 cache</v-btn>
      </v-btn-toggle>
      <v-table v-if="planned" density="compact" class="mb-3" aria-label="plan">
        <tbody>
          <tr v-for="part in planned.parts" :key="part.part">
            <td>{{ part.part }}</td>
            <td class="text-right">{{ bytes(part.bytes) }}</td>
          </tr>
          <tr class="font-weight-bold">
            <td>together, in pool {{ planned.pool }}</td>
            <td class="text-right">{{ bytes(planned.total) }}</td>
          </tr>
        </tbody>
      </v-table>
      <div v-for="pool in pools" :key="pool.name" class="mb-3" :aria-label="`pool ${pool.name} with this load`">
        <div class="bar">
          <div class="held" :style="{ width: `${shares(pool).held}%` }" />
          <div
            class="added"
            :class="{ over: planned?.refusal }"
            :style="{ width: `${shares(pool).added}%` }"
          />
        </div>
        <div class="text-body-small text-medium-emphasis mt-1">
          pool {{ pool.name }}: {{ bytes(pool.reserved) }} planned now, of {{ bytes(pool.limit) }}
        </div>
      </div>
      <ProblemNote v-if="problem" :problem="problem" @take="take" />
      <div class="d-flex justify-end ga-2 mt-4">
        <v-btn variant="text" @click="open = false">Cancel</v-btn>
        <v-btn color="primary" :disabled="!planned || !!problem" :loading="loading" @click="start">Load</v-btn>
      </div>
    </v-card>
  </v-dialog>
</template>

<style scoped>
.figure {
  min-width: 96px;
  text-align: right;
  font-variant-numeric: tabular-nums;
}
.bar {
  display: flex;
  height: 14px;
  overflow: hidden;
  border-radius: 7px;
  background: rgba(var(--v-theme-on-surface), 0.08);
}
.held {
  background: rgba(var(--v-theme-on-surface), 0.35);
}
.added {
  background: rgb(var(--v-theme-primary));
  transition: width 120ms;
}
.over {
  background: rgb(var(--v-theme-error));
}
td {
  font-variant-numeric: tabular-nums;
}
</style>
