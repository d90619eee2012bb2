// @vitest-environment happy-dom
import { afterEach, expect, test } from 'vitest'
import { nextTick } from 'vue'

import type { Instance } from '../api/client'
import { mounted, named, text } from '../testing/mounted'
import InstanceCard from './InstanceCard.vue'

afterEach(() => (document.body.innerHTML = ''))

/** An instance of the demo's model, ready and with one call. */
function instance(changes: Partial<Instance> = {}): Instance {
  return {
    id: '018f0000-0000-7000-8000-000000000001',
    name: 'larkfen-desk/q8_0',
    number: 1,
    held: [],
    state: 'ready',
    origin: 'requested',
    reserved_bytes: 9 * 1024 * 1024,
    measured_bytes: 8 * 1024 * 1024,
    planned: [{ pool: 'host', part: 'weights', bytes: 2 * 1024 * 1024 }],
    settings: { context: 1024, lanes: 2, chunk: 128, cache: 'f16', cache_values: 'f16', pinned: true, importance: 0, share: 100 },
    prompt_tokens: 1200,
    cached_tokens: 1100,
    answer_tokens: 80,
    calls: 1,
    queued: 3,
    crashes: 0,
    kernels: 'AVX2',
    pid: 4711,
    load_seconds: 0.25,
    work: { lanes_busy: 1, lanes_paused: 0, pages: 64, pages_used: 12, pages_cached: 9, steps: 100 },
    ...changes,
  } as unknown as Instance
}

test('a loaded model shows its figures, each only where there is one', () => {
  mounted(InstanceCard, { instance: instance(), busy: false })
  for (const part of ['larkfen-desk/q8_0', '9.00 MiB', '8.00 MiB', '1,200, 1,100 cached', '0.25 s', 'pinned', '4711']) {
    expect(text()).toContain(part)
  }
  expect(text()).not.toContain('layers')
  expect(text()).not.toContain('undefined')
})

test('what was never measured says so', () => {
  mounted(InstanceCard, { instance: instance({ state: 'loading', measured_bytes: null, load_seconds: null, load_share: 0.42, work: null }), busy: false })
  expect(text()).toContain('42 %')
  expect(text()).toContain('not yet')
  expect(document.querySelectorAll('a')).toHaveLength(0)
})

test('a failed one tells why and can be retried; an unload asks first', async () => {
  const problem = { kind: 'refused', code: 'crashed', title: 'Refused', status: 409, detail: 'its engine process ended five times' }
  const failed = instance({ state: 'failed', problem: problem as never })
  const { emitted } = mounted(InstanceCard, { instance: failed, busy: false })
  expect(text()).toContain('its engine process ended five times')
  named('button', 'Retry').click()
  expect(emitted('retry')).toEqual([[failed.id]])
  named('button', 'Unload').click()
  await nextTick()
  expect(emitted('unload')).toHaveLength(0)
  named('[role=alertdialog] button', 'Unload').click()
  await nextTick()
  expect(emitted('unload')).toEqual([[failed.id]])
})
