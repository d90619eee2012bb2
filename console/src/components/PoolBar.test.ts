// @vitest-environment happy-dom
import { flushPromises } from '@vue/test-utils'
import { afterEach, expect, test, vi } from 'vitest'

import { input, mounted, named, served, text, typed } from '../testing/mounted'
import PoolBar from './PoolBar.vue'

afterEach(() => {
  document.body.innerHTML = ''
  vi.unstubAllGlobals()
})

const MIB = 1024 * 1024
const pool = { name: 'host', limit: 32 * MIB, reserved: 8 * MIB, measured: 7 * MIB, simulated: false }
const instance = { id: 'a', name: 'larkfen-desk/q8_0', number: 1, state: 'ready', held: [{ pool: 'host', reserved: 8 * MIB }], planned: [], settings: {} }

test('what is free is told in words too, not by the bar alone', () => {
  mounted(PoolBar, { pool, instances: [instance] })
  expect(named('[role=img]', '24.0 MiB of 32.0 MiB free')).toBeTruthy()
  expect(text()).toContain('larkfen-desk/q8_0 8.00 MiB')
})

test('a limit below what is reserved is an excess, and never less than nothing free', () => {
  mounted(PoolBar, { pool: { ...pool, limit: 3 * MIB }, instances: [instance] })
  expect(text()).toContain('5.00 MiB above the limit')
  expect(text()).toContain('0 B free')
})

test('a limit that is refused stays in its field, with the reason', async () => {
  const sent = served(() => ({ status: 400, detail: '`much` is not an amount' }))
  mounted(PoolBar, { pool, instances: [] })
  named('button', 'Change the limit of host').click()
  await flushPromises()
  const field = input()
  expect(field.value).toBe('32.0 MiB')
  typed(field, 'much')
  field.form?.dispatchEvent(new Event('submit', { cancelable: true }))
  await flushPromises()
  expect(sent[0]?.body).toMatchObject({ limit: 'much' })
  expect(text()).toContain('`much` is not an amount')
  expect(document.querySelector('input')).toBeTruthy()
})
