import { expect, test } from 'vitest'

import { bytes, count, seconds } from './format'

test('figures are written as the command line writes them', () => {
  expect([0, 512, 1_993_568, 10 * 2 ** 20, 5 * 2 ** 30].map(bytes)).toEqual([
    '0 B',
    '512 B',
    '1.90 MiB',
    '10.0 MiB',
    '5.00 GiB',
  ])
  expect(count(1808448)).toBe('1,808,448')
  expect([0.0021, 0.25, 12.34].map(seconds)).toEqual(['2.1 ms', '0.25 s', '12.3 s'])
})
