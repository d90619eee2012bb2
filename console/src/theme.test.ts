import { afterEach, describe, expect, it, vi } from 'vitest'

import { storedTheme, storeTheme } from './theme'

/** A browser that stores what it is given, or refuses. */
function browser(stored: Record<string, string>, refuses = false) {
  const use = <T>(work: () => T) => {
    if (refuses) throw new Error('storage is blocked')
    return work()
  }
  vi.stubGlobal('localStorage', {
    getItem: (key: string) => use(() => stored[key] ?? null),
    setItem: (key: string, value: string) => use(() => (stored[key] = value)),
  })
}

describe('the theme', () => {
  afterEach(() => vi.unstubAllGlobals())

  it('is remembered', () => {
    browser({})
    expect(storedTheme()).toBeUndefined()
    storeTheme('dark')
    expect(storedTheme()).toBe('dark')
  })

  it('is never one that does not exist', () => {
    browser({ 'deft-theme': 'sepia' })
    expect(storedTheme()).toBeUndefined()
  })

  it('can be chosen in a browser that stores nothing', () => {
    browser({}, true)
    storeTheme('dark')
    expect(storedTheme()).toBeUndefined()
  })
})
