import { expect, test } from 'vitest'

import type { History } from './api/client'
import { beginning, loadLines, memoryLines, poolsOf, rateLines, ticks } from './history'

const at = '2026-05-01T09:30:00Z'
const series = (name: string, mean: number) => ({ name, points: [{ at, mean, most: mean }] })
const HISTORY: History = {
  span: 'hour',
  until: at,
  step_seconds: 10,
  series: [
    series('answer_rate', 40),
    series('busy', 0.5),
    series('pool:fern:granted', 9),
    series('pool:fern:measured', 7),
    series('pool:host:limit', 99),
    series('pool:host:measured', 8),
  ],
}

test('each pool has a line of what was measured and one of what was reserved', () => {
  expect(poolsOf(HISTORY)).toEqual(['fern', 'host'])
  expect(memoryLines(HISTORY).map((line) => line.name)).toEqual(['fern, measured', 'fern, reserved', 'host, measured'])
})

test('times on the axis are round and few', () => {
  const from = Date.parse('2026-05-01T09:31:07Z')
  const shown = ticks(from, from + 3_600_000)
  expect(shown.length).toBeGreaterThanOrEqual(4)
  expect(shown.length).toBeLessThanOrEqual(7)
  expect(shown.every((time) => time >= from && time % 60_000 === 0)).toBe(true)
  expect(ticks(from, from + 7 * 86_400_000)).toHaveLength(7)
  expect(beginning(HISTORY)).toBe(Date.parse(at))
})

test('what was not measured has no line', () => {
  expect(rateLines(HISTORY)).toEqual([
    { name: 'answer tokens/s', dashed: false, points: [{ x: Date.parse(at), y: 40 }] },
  ])
  expect(loadLines(HISTORY).map((line) => [line.name, line.points[0]?.y])).toEqual([['processors busy, %', 50]])
})
