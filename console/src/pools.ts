/** What instances hold of pools, as bars show it. */
import type { Instance } from './api/client'

const HUES = ['#2d7f86', '#b5701a', '#5a7d4f', '#7c5a86', '#a8524a', '#4a6fa0']

/** An instance as operators write it: the first of a variant has no number. */
export function title(instance: Pick<Instance, 'name' | 'number'>): string {
  return instance.number && instance.number > 1 ? `${instance.name}#${instance.number}` : instance.name
}

/** A part of a pool's bar. */
export interface Segment {
  id: string
  title: string
  bytes: number
  hue: string
}

/** Who holds what of a pool; weights that instances share are drawn once, with the first of them. */
export function segments(pool: string, instances: Instance[]): Segment[] {
  const drawn = new Set<string>()
  return instances.flatMap((instance, at) => {
    const held = instance.held.find((use) => use.pool === pool)
    if (!held || ['failed', 'evicted'].includes(instance.state)) return []
    const weights = instance.planned.find((part) => part.pool === pool && part.part === 'weights')
    const shared = pool === 'host' && drawn.has(instance.name) ? (weights?.bytes ?? 0) : 0
    drawn.add(instance.name)
    const hue = HUES[at % HUES.length] ?? ''
    return [{ id: instance.id, title: title(instance), bytes: held.reserved - shared, hue }]
  })
}
