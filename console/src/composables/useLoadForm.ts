import { computed, reactive, ref, watch } from 'vue'

import {
  asRefused,
  type LoadRequest,
  type Plan,
  plan,
  type PoolPlan,
  Refused,
  type SettingName,
  type SettingsRequest,
  type Variant,
  type Way,
} from '../api/client'

export type Precision = NonNullable<SettingsRequest['cache']>

/** What the controls of the load form hold. */
export interface LoadControls {
  context: number
  lanes: number
  chunk: number
  cacheTokens: number | null
  instances: number
  keys: Precision
  values: Precision
  /** Layers in each accelerator; the rest stays in host memory. */
  layers: Record<string, number>
  resident: boolean
  /** Empty for one thread per processor. */
  threads: number | null
  pinned: boolean
  importance: number
  share: number
  idle: string
}

/** Layers in accelerators, as they are asked for. */
export function placesOf(layers: Record<string, number>): string[] {
  return Object.entries(layers)
    .filter(([, count]) => count > 0)
    .map(([pool, count]) => `${pool}=${count}`)
}

/** The other way round: a pool without a number takes what is left of all layers. */
export function layersOf(places: string[], all: number): Record<string, number> {
  const pairs = places.map((place) => place.split('=') as [string, string?])
  const numbered = pairs.reduce((sum, [, count]) => sum + Number(count ?? 0), 0)
  return Object.fromEntries(
    pairs
      .filter(([pool]) => pool !== 'host')
      .map(([pool, count]) => [pool, count === undefined ? all - numbered : Number(count)]),
  )
}

/** What the controls say, as settings are sent. */
export function settingsOf(controls: LoadControls): SettingsRequest {
  return {
    context: controls.context,
    lanes: controls.lanes,
    chunk: controls.chunk,
    cache_tokens: controls.cacheTokens,
    cache: controls.keys,
    cache_values: controls.values,
    pools: placesOf(controls.layers),
    weights: controls.resident ? 'resident' : 'mapped',
    threads: controls.threads,
    pinned: controls.pinned,
    importance: controls.importance,
    share: controls.share,
    idle: controls.idle,
  }
}

/** The settings that were changed; the others keep their stored values. */
export function moved(now: SettingsRequest, before: SettingsRequest): SettingsRequest {
  const differs = ([name, value]: [string, unknown]) =>
    JSON.stringify(value ?? null) !== JSON.stringify(before[name as keyof SettingsRequest] ?? null)
  return Object.fromEntries(Object.entries(now).filter(differs))
}

/** Settings that were emptied: a loaded model keeps what is not sent, so they are named to be set back. */
export function cleared(changed: SettingsRequest): SettingName[] {
  return Object.entries(changed).flatMap(([name, value]) => (value === null ? [name as SettingName] : []))
}

/** Brings the controls to where settings stand. */
export function takeOver(controls: LoadControls, settings: SettingsRequest, layers: number) {
  controls.context = settings.context ?? controls.context
  controls.lanes = settings.lanes ?? controls.lanes
  controls.chunk = settings.chunk ?? controls.chunk
  controls.cacheTokens = settings.cache_tokens ?? null
  controls.keys = settings.cache ?? controls.keys
  controls.values = settings.cache_values ?? controls.keys
  controls.layers = layersOf(settings.pools ?? [], layers)
  controls.resident = settings.weights === 'resident'
  controls.threads = settings.threads ?? null
  controls.pinned = settings.pinned ?? false
  controls.importance = settings.importance ?? 0
  controls.share = settings.share ?? 100
  controls.idle = settings.idle ?? 'never'
}

/**
 * The load form of a variant: its plan moves with the controls. They begin where the model's own settings are, or
 * those of an instance of it.
 */
export function useLoadForm(variant: Variant, of?: SettingsRequest) {
  const controls = reactive<LoadControls>({
    context: Math.min(variant.facts.context_length, 8192),
    lanes: 2,
    chunk: 128,
    cacheTokens: null,
    instances: 1,
    keys: 'f16',
    values: 'f16',
    layers: {},
    resident: false,
    threads: null,
    pinned: false,
    importance: 0,
    share: 100,
    idle: 'never',
  })
  const planned = ref<Plan | null>(null)
  const pools = ref<PoolPlan[]>([])
  const problem = ref<Refused | null>(null)

  /** Where the controls began. */
  let before: SettingsRequest = {}

  const request = computed<LoadRequest>(() => {
    const changed = moved(settingsOf(controls), before)
    const reset = cleared(changed)
    return { model: variant.name, instances: controls.instances, settings: { ...of, ...changed }, reset }
  })

  /** An answer to older settings is dropped. */
  let asked = 0
  async function replan() {
    const mine = ++asked
    try {
      const report = await plan([request.value])
      const answer = report.plans[0]
      if (mine !== asked || !answer) return
      planned.value = answer
      pools.value = report.pools
      problem.value = answer.refusal ? new Refused(answer.refusal) : null
    } catch (error) {
      if (mine === asked) problem.value = asRefused(error)
    }
  }

  /** Takes a way out by a click. */
  function take({ settings }: Way) {
    if (!settings) return
    controls.context = settings.context ?? controls.context
    controls.lanes = settings.lanes ?? controls.lanes
    controls.cacheTokens = settings.cache_tokens ?? null
    controls.keys = settings.cache ?? controls.keys
    controls.values = settings.cache_values ?? controls.values
    if (settings.pools) controls.layers = layersOf(settings.pools, variant.facts.layers)
  }

  /** The controls begin where the service would put them. */
  async function begin() {
    const report = await plan([{ model: variant.name, settings: of }]).catch(() => null)
    const settings = report?.plans[0]?.settings
    if (settings) takeOver(controls, settings, variant.facts.layers)
    before = settingsOf(controls)
    watch(request, replan, { immediate: true, deep: true })
  }

  void begin()
  return { controls, planned, pools, problem, request, take }
}
