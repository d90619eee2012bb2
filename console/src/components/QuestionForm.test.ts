// @vitest-environment happy-dom
import { afterEach, expect, test } from 'vitest'

import { mounted, named } from '../testing/mounted'
import QuestionForm from './QuestionForm.vue'

afterEach(() => (document.body.innerHTML = ''))

const props = { modelValue: '  When do I sow Ember chard? ', label: 'Question', ask: 'Ask', running: false }

test('Enter asks without the space around it, Shift and Enter does not', async () => {
  const { app, emitted } = mounted(QuestionForm, props)
  const field = app.find('textarea')
  await field.trigger('keydown', { key: 'Enter', shiftKey: true })
  expect(emitted('ask')).toHaveLength(0)
  await field.trigger('keydown', { key: 'Enter' })
  expect(emitted('ask')).toEqual([['When do I sow Ember chard?']])
})

test('an empty question, or none to ask, is not sent', async () => {
  for (const changed of [{ modelValue: '   ' }, { disabled: true }]) {
    document.body.innerHTML = ''
    const { app, emitted } = mounted(QuestionForm, { ...props, ...changed })
    expect(named('button', 'Ask').hasAttribute('disabled')).toBe(true)
    await app.find('form').trigger('submit')
    expect(emitted('ask')).toHaveLength(0)
  }
})

test('while an answer grows, the button stops it and Enter asks nothing', async () => {
  const { app, emitted } = mounted(QuestionForm, { ...props, running: true })
  await app.find('textarea').trigger('keydown', { key: 'Enter' })
  expect(emitted('ask')).toHaveLength(0)
  named('button', 'Stop').click()
  expect(emitted('stop')).toHaveLength(1)
})
