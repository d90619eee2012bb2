import { describe, expect, it } from 'vitest'

import { cleared, type LoadControls, layersOf, moved, placesOf, settingsOf, takeOver } from './useLoadForm'

describe('places of layers', () => {
  it('names accelerators that have layers', () => {
    expect(placesOf({ fern: 2, moss: 0 })).toEqual(['fern=2'])
    expect(placesOf({})).toEqual([])
  })

  it('reads what a refusal offers', () => {
    expect(layersOf(['fern=2', 'host=3'], 5)).toEqual({ fern: 2 })
    expect(layersOf(['moss'], 5)).toEqual({ moss: 5 })
    expect(layersOf(['fern=2', 'moss'], 5)).toEqual({ fern: 2, moss: 3 })
    expect(layersOf(['host'], 5)).toEqual({})
  })
})

describe('settings that are stored with a model', () => {
  const stored = { context: 512, lanes: 3, cache: 'q8_0' as const, pinned: true, importance: 4, idle: '10m', pools: ['fern=2'] }
  const controls = (): LoadControls => ({
    context: 64,
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

  it('are set back where their controls are emptied', () => {
    const form = controls()
    takeOver(form, { ...stored, threads: 2, cache_tokens: 700 }, 5)
    const before = settingsOf(form)
    form.threads = form.cacheTokens = null
    expect(cleared(moved(settingsOf(form), before)).sort()).toEqual(['cache_tokens', 'threads'])
  })

  it('are where the controls begin, and are not sent again', () => {
    const form = controls()
    takeOver(form, stored, 5)
    expect(form).toMatchObject({ context: 512, lanes: 3, keys: 'q8_0', values: 'q8_0', pinned: true, importance: 4, idle: '10m' })
    expect(form.layers).toEqual({ fern: 2 })
    const before = settingsOf(form)
    expect(moved(settingsOf(form), before)).toEqual({})
    form.lanes = 4
    form.pinned = false
    expect(moved(settingsOf(form), before)).toEqual({ lanes: 4, pinned: false })
    expect(cleared(moved(settingsOf(form), before))).toEqual([])
  })
})
