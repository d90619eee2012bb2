// @vitest-environment happy-dom
import { afterEach, expect, test } from 'vitest'
import { nextTick } from 'vue'

import { mounted, named, text } from '../testing/mounted'
import ConfirmButton from './ConfirmButton.vue'

afterEach(() => (document.body.innerHTML = ''))

const props = { label: 'Unload', question: 'Unload larkfen-desk/q8_0?' }

test('an act that cannot be undone waits for a confirmation', async () => {
  const { emitted } = mounted(ConfirmButton, props)
  named('button', 'Unload').click()
  await nextTick()
  expect(text()).toContain('Unload larkfen-desk/q8_0?')
  expect(emitted('confirmed')).toHaveLength(0)
  named('[role=alertdialog] button', 'Unload').click()
  await nextTick()
  expect(emitted('confirmed')).toHaveLength(1)
})

test('going back does nothing', async () => {
  const { emitted } = mounted(ConfirmButton, props)
  named('button', 'Unload').click()
  await nextTick()
  named('[role=alertdialog] button', 'Back').click()
  await nextTick()
  expect(emitted('confirmed')).toHaveLength(0)
})
