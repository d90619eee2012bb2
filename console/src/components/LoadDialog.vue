<script setup lang="ts">
import { computed, ref } from 'vue'

import { asRefused, load, type Refused, type SettingsRequest, type Variant } from '../api/client'
import { useLoadForm } from '../composables/useLoadForm'
import { bytes, count } from '../format'
import HintMark from './HintMark.vue'
import LoadOptions from './LoadOptions.vue'
import PlannedPool from './PlannedPool.vue'
import ProblemNote from './ProblemNote.vue'

/** `settings`: those of an instance whose settings are to be changed. */
const props = defineProps<{ variant: Variant; settings?: SettingsRequest }>()
const open = defineModel<boolean>({ required: true })
const emit = defineEmits<{ loaded: [name: string] }>()

const { controls, planned, pools, problem, request, take } = useLoadForm(props.variant, props.settings)
const loading = ref(false)
/** Why the last attempt failed. */
const failure = ref<Refused | null>(null)

const accelerators = computed(() => pools.value.filter((pool) => pool.simulated))
/** The plan, pool by pool. */
const groups = computed(() =>
  pools.value
    .map((pool) => ({ pool, parts: planned.value?.parts.filter((part) => part.pool === pool.name) ?? [] }))
    .filter(({ parts }) => parts.length > 0),
)

async function start() {
  loading.value = true
  failure.value = null
  try {
    const instance = await load(request.value)
    open.value = false
    emit('loaded', instance.name)
  } catch (error) {
    failure.value = asRefused(error)
  } finally {
    loading.value = false
  }
}
</script>

<template>
  <v-dialog v-model="open" max-width="920" scrollable :aria-label="$t('load.dialog')">
    <v-card>
      <v-card-title class="pt-4 font-weight-bold">{{ $t(settings ? 'load.reload' : 'load.load', { name: variant.name }) }}</v-card-title>
      <v-card-text>
        <v-row>
          <v-col cols="12" md="6">
            <v-slider
              v-model="controls.context"
              :label="$t('load.context')"
              :name="$t('load.context')"
              :min="64"
              :max="variant.facts.context_length"
              :step="64"
              hide-details
            >
              <template #append><span class="figure">{{ $t('common.tokens', { count: count(controls.context) }) }}</span><HintMark :hint="$t('hints.context')" /></template>
            </v-slider>
            <v-slider v-model="controls.lanes" :label="$t('load.lanes')" :name="$t('load.lanes')" :min="1" :max="64" :step="1" hide-details>
              <template #append><span class="figure">{{ controls.lanes }}</span><HintMark :hint="$t('hints.lanes')" /></template>
            </v-slider>
            <v-slider v-model="controls.instances" :label="$t('load.instances')" :name="$t('load.instances')" :min="1" :max="8" :step="1" hide-details>
              <template #append><span class="figure">{{ controls.instances }}</span><HintMark :hint="$t('hints.instances')" /></template>
            </v-slider>
            <v-slider
              v-for="pool in accelerators"
              :key="pool.name"
              :model-value="controls.layers[pool.name] ?? 0"
              :label="$t('load.layersIn', { pool: pool.name })"
              :name="$t('load.layersIn', { pool: pool.name })"
              :min="0"
              :max="variant.facts.layers"
              :step="1"
              hide-details
              @update:model-value="controls.layers[pool.name] = $event"
            >
              <template #append>
                <span class="figure">{{
                  $t('common.amountOf', { amount: controls.layers[pool.name] ?? 0, all: variant.facts.layers })
                }}</span>
                <HintMark :hint="$t('hints.layersIn')" />
              </template>
            </v-slider>
            <LoadOptions v-model="controls" class="mt-3" />
          </v-col>
          <v-col cols="12" md="6">
            <v-table v-if="planned" density="compact" :aria-label="$t('load.plan')">
              <tbody v-for="{ pool, parts } in groups" :key="pool.name">
                <tr>
                  <td colspan="2" class="text-medium-emphasis">
                    {{ $t(pool.simulated ? 'load.inSimulatedPool' : 'load.inPool', { pool: pool.name }) }}
                  </td>
                </tr>
                <tr v-for="part in parts" :key="part.part">
                  <td class="pl-8">{{ part.part }}</td>
                  <td class="text-right">{{ bytes(part.bytes) }}</td>
                </tr>
              </tbody>
              <tbody>
                <tr class="font-weight-bold">
                  <td>{{ $t(controls.instances > 1 ? 'load.totalEach' : 'load.total') }}</td>
                  <td class="text-right">{{ bytes(planned.total) }}</td>
                </tr>
              </tbody>
            </v-table>
            <PlannedPool
              v-for="pool in pools"
              :key="pool.name"
              class="mt-3"
              :pool="pool"
              :refused="planned?.refusal ? groups.find((group) => group.pool.name === pool.name)?.parts : undefined"
            />
            <div v-for="note in planned?.notes" :key="note" class="text-body-small text-medium-emphasis mt-2">
              {{ note }}
            </div>
          </v-col>
        </v-row>
        <ProblemNote v-if="problem ?? failure" class="mt-3" :problem="(problem ?? failure)!" takes @take="take" />
      </v-card-text>
      <v-card-actions>
        <v-spacer />
        <v-btn variant="text" @click="open = false">{{ $t('common.cancel') }}</v-btn>
        <v-btn color="primary" variant="flat" :disabled="!planned || !!problem" :loading="loading" @click="start">
          {{ $t(settings ? 'load.apply' : 'load.start') }}
        </v-btn>
      </v-card-actions>
    </v-card>
  </v-dialog>
</template>

<style scoped>
:deep(.v-slider > .v-input__prepend) {
  min-width: 108px;
}
.figure {
  min-width: 96px;
  text-align: right;
  font-variant-numeric: tabular-nums;
}
td {
  font-variant-numeric: tabular-nums;
}
</style>
