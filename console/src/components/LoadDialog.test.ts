// @vitest-environment happy-dom
import { flushPromises } from '@vue/test-utils'
import { afterEach, expect, test, vi } from 'vitest'

import { mounted, named, type Sent, served, text } from '../testing/mounted'
import LoadDialog from './LoadDialog.vue'

afterEach(() => {
  document.body.innerHTML = ''
  vi.unstubAllGlobals()
})

const variant = { name: 'larkfen-desk/q8_0', facts: { context_length: 1024, layers: 5 } }
const stored = { context: 256, lanes: 3, chunk: 128, cache: 'q8_0', cache_values: 'q8_0', importance: 0, share: 100, idle: 'never', pinned: true }
const pools = [{ name: 'host', limit: 33554432, free: 20000000, simulated: false, reserved: 13554432, planned: 0 }]

/** A service that plans with what it is asked, on top of what is stored with the model. */
function planning(refusal: unknown = null) {
  return served(({ path, body }: Sent) => {
    if (path === '/manage/v1/instances') return { name: 'larkfen-desk/q8_0' }
    const [request] = (body as { loads?: { settings?: object }[] }).loads ?? [body as { settings?: object }]
    const settings = { ...stored, ...request?.settings }
    const parts = [{ pool: 'host', part: 'weights', bytes: 2097152 }, { pool: 'host', part: 'KV cache', bytes: 1048576 }]
    return { plans: [{ name: variant.name, settings, instances: 1, command: '', parts, total: 3145728, notes: [], refusal }], pools }
  })
}

test('the controls begin at the stored settings, and only what was moved is sent', async () => {
  const sent = planning()
  const { emitted } = mounted(LoadDialog, { variant, modelValue: true })
  await flushPromises()
  expect(text()).toContain('256 tokens')
  expect(text()).toContain('weights2.00 MiB')
  expect(text()).toContain('total3.00 MiB')
  named('[aria-label=Load] button', 'Load').click()
  await flushPromises()
  const load = sent.find(({ path }) => path === '/manage/v1/instances')
  expect(load?.body).toMatchObject({ model: 'larkfen-desk/q8_0', settings: {} })
  expect(emitted('loaded')).toEqual([['larkfen-desk/q8_0']])
  expect(emitted('update:modelValue')).toEqual([[false]])
})

test('a plan that does not fit cannot be started and says what would fit', async () => {
  const ways = [{ command: 'deft load larkfen-desk/q8_0 --lanes 1', effect: 'needs 2 MiB', settings: { ...stored, lanes: 1 } }]
  const sent = planning({ kind: 'refused', code: 'does_not_fit', detail: 'it needs 3 MiB', ways })
  mounted(LoadDialog, { variant, modelValue: true })
  await flushPromises()
  expect(named('[aria-label=Load] button', 'Load').hasAttribute('disabled')).toBe(true)
  named('[role=alert] button', 'Apply').click()
  await flushPromises()
  // The way out is what is planned next.
  expect(JSON.stringify(sent.at(-1)?.body)).toContain('"lanes":1')
  expect(sent.some(({ path }) => path === '/manage/v1/instances')).toBe(false)
})

test('the settings of a loaded model are changed under their own title', async () => {
  planning()
  mounted(LoadDialog, { variant, modelValue: true, settings: { ...stored, lanes: 4 } })
  await flushPromises()
  expect(text()).toContain('Change the settings of')
  expect(named('[aria-label=Load] button', 'Apply')).toBeTruthy()
})
