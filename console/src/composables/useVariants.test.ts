import { expect, test } from 'vitest'

import type { Variant } from '../api/client'
import { hasWords, ordered } from './useVariants'

function variant(name: string, file_bytes: number, last_used?: string): Variant {
  const facts = { family: 'llama', description: 'Answers at the Larkfen desk' }
  return { name, file_bytes, last_used, facts } as unknown as Variant
}

const desk = variant('larkfen-desk/q8_0', 20, '2026-11-02T10:00:00Z')
const mini = variant('larkfen-mini/q8_0', 5, '2026-11-03T10:00:00Z')
const find = variant('larkfen-find/q8_0', 30)

test('words may stand anywhere, in any case', () => {
  expect(hasWords(desk, 'LLAMA answers')).toBe(true)
  expect(hasWords(desk, 'bert')).toBe(false)
  expect(hasWords(desk, '')).toBe(true)
})

test('orders are by name, size and last use', () => {
  const names = (order: Parameters<typeof ordered>[1]) => ordered([desk, mini, find], order).map((found) => found.file_bytes)
  expect(names('age')).toEqual([20, 5, 30])
  expect(names('name')).toEqual([20, 30, 5])
  expect(names('size')).toEqual([30, 20, 5])
  expect(names('used')).toEqual([5, 20, 30])
})
