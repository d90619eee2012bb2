import { describe, expect, it } from 'vitest'

import type { Offer } from './api/client'
import { byModel, fits } from './fits'

describe('offers', () => {
  it('tell in words whether they fit, and what that is known from', () => {
    expect(fits({ fits: 'now', memory: 1, by_size_alone: false }).text).toBe('fits')
    expect(fits({ fits: 'never', memory: 1, by_size_alone: true }).text).toBe('never fits (estimated from its size)')
  })

  it('are shown with the variants of their model', () => {
    const offer = (source: string, model: string, variant: string) => ({ source, model, variant }) as Offer
    const models = byModel([offer('a', 'desk', 'f16'), offer('b', 'desk', 'f16'), offer('a', 'desk', 'q8_0')])
    expect(models.map(({ name, variants }) => [name, variants.length])).toEqual([
      ['a:desk', 2],
      ['b:desk', 1],
    ])
  })
})
