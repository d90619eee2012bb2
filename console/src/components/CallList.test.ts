// @vitest-environment happy-dom
import { flushPromises } from '@vue/test-utils'
import { afterEach, expect, test, vi } from 'vitest'

import { mounted, named, served, text } from '../testing/mounted'
import CallList from './CallList.vue'

afterEach(() => {
  document.body.innerHTML = ''
  vi.unstubAllGlobals()
})

const waiting = { id: '0190-a', name: 'larkfen-desk/q8_0', caller: 'reading room', priority: 'urgent', stage: 'waiting', position: 2, seconds_left: 3.2, answer_tokens: 0 }
const running = { id: '0190-b', name: 'larkfen-desk/q8_0', caller: 'desk', priority: 'usual', stage: 'prompt', share: 0.4, prompt_tokens: 900, answer_tokens: 0 }

test('each call tells its stage and what is known of it', () => {
  mounted(CallList, { calls: [waiting, running] })
  const [first, second] = [...document.querySelectorAll('[data-call]')].map((call) => call.textContent ?? '')
  expect(first).toContain('reading room')
  expect(first).toContain('urgent')
  expect(first).toMatch(/2.*4 s/)
  expect(second).toContain('40 %')
  expect(second).toContain('900')
  expect(second).not.toContain('usual')
  expect(second).not.toContain('NaN')
})

test('no call is said in words', () => {
  mounted(CallList, { calls: [] })
  expect(text()).toContain('none')
})

test('a cancelled call names its caller first, and a refusal is shown', async () => {
  const sent = served(() => ({ status: 404, detail: 'there is no such call' }))
  mounted(CallList, { calls: [running] })
  named('button', 'Cancel').click()
  await flushPromises()
  expect(text()).toContain('desk')
  expect(sent).toHaveLength(0)
  named('[role=alertdialog] button', 'Cancel').click()
  await flushPromises()
  expect(sent.map(({ method, path }) => `${method} ${path}`)).toEqual(['DELETE /manage/v1/calls/0190-b'])
  expect(text()).toContain('there is no such call')
})
