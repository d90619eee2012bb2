import { describe, expect, it } from 'vitest'

import type { Instance } from './api/client'
import { segments, title } from './pools'

function instance(number: number, state = 'ready'): Instance {
  return {
    id: `id-${number}`,
    name: 'larkfen-desk/q8_0',
    number,
    state,
    held: [
      { pool: 'host', reserved: 700 },
      { pool: 'fern', reserved: 300 },
    ],
    planned: [
      { pool: 'host', part: 'weights', bytes: 500 },
      { pool: 'fern', part: 'weights', bytes: 300 },
    ],
  } as unknown as Instance
}

describe('bars of pools', () => {
  it('draw shared weights once in host memory, and each copy in an accelerator', () => {
    const copies = [instance(1), instance(2)]
    expect(segments('host', copies).map((segment) => segment.bytes)).toEqual([700, 200])
    expect(segments('fern', copies).map((segment) => segment.bytes)).toEqual([300, 300])
    expect(segments('moss', copies)).toEqual([])
  })

  it('leave out what holds nothing', () => {
    expect(segments('host', [instance(1, 'failed'), instance(2, 'evicted')])).toEqual([])
  })

  it('number further instances of a variant', () => {
    expect(title(instance(1))).toBe('larkfen-desk/q8_0')
    expect(title(instance(2))).toBe('larkfen-desk/q8_0#2')
  })
})
