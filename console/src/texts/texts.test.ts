import { readdirSync, readFileSync } from 'node:fs'
import { join } from 'node:path'

import { expect, test } from 'vitest'

import en from './en.json'

/** Keys of the catalogue with their texts. */
function flat(texts: object, path = ''): [string, string][] {
  return Object.entries(texts).flatMap(([key, value]) =>
    typeof value === 'string' ? [[path + key, value] as [string, string]] : flat(value, `${path}${key}.`),
  )
}

const SOURCES = readdirSync('src', { recursive: true, encoding: 'utf8' })
  .filter((name) => /\.(vue|ts)$/.test(name) && !/test\.ts$|schema\.ts$/.test(name))
  .map((name) => readFileSync(join('src', name), 'utf8'))
const CATALOGUE = new Map(flat(en))

test('every key that is used has a text, and every text is used', () => {
  // Keys are literals, or end in a state, stage or kind.
  const literals = new Set<string>()
  const prefixes = new Set<string>()
  for (const source of SOURCES) {
    for (const [, key] of source.matchAll(/['"]([a-zA-Z]+(?:\.[a-zA-Z_]+)+)['"]/g)) literals.add(key ?? '')
    for (const [, prefix] of source.matchAll(/t\(`([a-zA-Z.]+\.)\$\{/g)) prefixes.add(prefix ?? '')
  }
  for (const [, key] of SOURCES.join('\n').matchAll(/\bt\('([^']+)'/g)) expect(CATALOGUE.has(key ?? ''), key).toBe(true)
  for (const prefix of prefixes) expect([...CATALOGUE.keys()].some((key) => key.startsWith(prefix)), prefix).toBe(true)
  const isUsed = (key: string) => literals.has(key) || key === 'product' || [...prefixes].some((prefix) => key.startsWith(prefix))
  expect([...CATALOGUE.keys()].filter((key) => !isUsed(key))).toEqual([])
})

test('titles and labels are in sentence case', () => {
  const names = ['JSON', 'KV', 'NUMA', 'OCI', 'SHA-256', 'Deft', 'Harbor', 'Markdown', 'DEFT_KEY']
  for (const [key, text] of CATALOGUE) {
    const words = text.replace(/\{\w+\}/g, '').split(/\s+/)
    const within = words.filter((word, at) => at > 0 && /^[A-Z][a-z]/.test(word) && !/[.!?:…]$/.test(words[at - 1] ?? ''))
    expect(within.filter((word) => !names.includes(word)), key).toEqual([])
  }
})
