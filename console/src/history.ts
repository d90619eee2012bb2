/** Measurements over time, as lines of a chart. */
import type { History } from './api/client'
import { t } from './i18n'

export interface Line {
  name: string
  points: { x: number; y: number }[]
  dashed?: boolean
}

function line(history: History, series: string, name: string, dashed = false): Line[] {
  const found = history.series.find((one) => one.name === series)
  if (!found) return []
  return [{ name, dashed, points: found.points.map((point) => ({ x: Date.parse(point.at), y: point.mean })) }]
}

/** Time of the first measurement. */
export function beginning(history: History): number | undefined {
  const firsts = history.series.flatMap((series) => (series.points[0] ? [Date.parse(series.points[0].at)] : []))
  return firsts.length > 0 ? Math.min(...firsts) : undefined
}

const MINUTE = 60_000
const STEPS = [1, 2, 5, 10, 15, 30, 60, 120, 240, 480, 1440].map((minutes) => minutes * MINUTE)

/** At most six round times between two; days begin at local midnight. */
export function ticks(from: number, until: number): number[] {
  const step = STEPS.find((one) => (until - from) / one <= 6) ?? 1440 * MINUTE
  const offset = new Date(until).getTimezoneOffset() * MINUTE
  const first = Math.ceil((from - offset) / step) * step + offset
  const times = []
  for (let at = first; at <= until; at += step) times.push(at)
  return times
}

/** Names of the pools that were measured. */
export function poolsOf(history: History): string[] {
  return history.series.flatMap(({ name }) => /^pool:(.*):measured$/.exec(name)?.[1] ?? [])
}

export function memoryLines(history: History): Line[] {
  return poolsOf(history).flatMap((pool) => [
    ...line(history, `pool:${pool}:measured`, t('history.measured', { pool })),
    ...line(history, `pool:${pool}:granted`, t('history.reserved', { pool }), true),
  ])
}

export function rateLines(history: History): Line[] {
  return [...line(history, 'answer_rate', t('history.answerRate')), ...line(history, 'prompt_rate', t('history.promptRate'), true)]
}

export function loadLines(history: History): Line[] {
  const busy = line(history, 'busy', t('history.busy')).map((one) => ({
    ...one,
    points: one.points.map(({ x, y }) => ({ x, y: y * 100 })),
  }))
  return [
    ...busy,
    ...line(history, 'temperature', t('history.temperature'), true),
    ...line(history, 'calls', t('history.calls')),
    ...line(history, 'queued', t('history.queued'), true),
  ]
}
