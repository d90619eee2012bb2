// @vitest-environment happy-dom
import { expect, test } from 'vitest'

import { Refused } from '../api/client'
import { mounted, named, text } from '../testing/mounted'
import ProblemNote from './ProblemNote.vue'

const problem = new Refused({
  kind: 'refused',
  code: 'does_not_fit',
  title: 'Refused',
  status: 409,
  detail: '`larkfen-desk/q8_0` needs 9 MiB of pool `host`; 7 MiB free',
  ways: [
    { command: 'deft load larkfen-desk/q8_0 --lanes 1', effect: 'needs 5 MiB', settings: { lanes: 1 } },
    { command: 'deft unload larkfen-find/q8_0', effect: 'frees 4 MiB' },
  ],
} as never)

test('a problem says what, and every way out with its effect', () => {
  mounted(ProblemNote, { problem })
  expect(text()).toContain('needs 9 MiB of pool `host`; 7 MiB free')
  expect(text()).toContain('deft load larkfen-desk/q8_0 --lanes 1 (needs 5 MiB)')
  expect(text()).toContain('deft unload larkfen-find/q8_0 (frees 4 MiB)')
  expect(document.querySelector('[role=alert]')).toBeTruthy()
  expect(document.querySelectorAll('button')).toHaveLength(0)
})

test('where a way out can be applied, a click hands over its settings', () => {
  document.body.innerHTML = ''
  const { emitted } = mounted(ProblemNote, { problem, takes: true })
  // A command is not something that this form could apply.
  expect(document.querySelectorAll('button')).toHaveLength(1)
  named('button', 'Apply').click()
  expect(emitted('take')).toEqual([[expect.objectContaining({ settings: { lanes: 1 } })]])
})
