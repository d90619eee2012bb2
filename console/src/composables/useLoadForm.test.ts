import { describe, expect, it } from 'vitest'

import { layersOf, placesOf } from './useLoadForm'

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
