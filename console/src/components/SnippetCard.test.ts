// @vitest-environment happy-dom
import { flushPromises } from '@vue/test-utils'
import { afterEach, expect, test, vi } from 'vitest'

import { mounted, named, served, text } from '../testing/mounted'
import SnippetCard from './SnippetCard.vue'

afterEach(() => {
  document.body.innerHTML = ''
  vi.unstubAllGlobals()
})

test('the snippet of the chosen task and language is shown', async () => {
  const all = ['chat', 'completion'].flatMap((task) =>
    ['curl', 'python', 'javascript'].map((language) => ({ task, language, code: `${task} in ${language}\n` })),
  )
  const sent = served(() => all)
  mounted(SnippetCard, { model: 'larkfen-desk/q8_0' })
  await flushPromises()
  expect(sent[0]?.path).toBe('/manage/v1/snippets?model=larkfen-desk%2Fq8_0')
  expect(text()).toContain('chat in curl')
  named('button', 'Python').click()
  named('button', 'Completion').click()
  await flushPromises()
  expect(text()).toContain('completion in python')
  expect(text()).not.toContain('curl\n')
})
