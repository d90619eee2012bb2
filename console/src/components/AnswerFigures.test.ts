// @vitest-environment happy-dom
import { afterEach, expect, test } from 'vitest'

import { mounted, text } from '../testing/mounted'
import AnswerFigures from './AnswerFigures.vue'

afterEach(() => (document.body.innerHTML = ''))

const figures = {
  first_token_seconds: 0.0014,
  prompt_rate: 1062.4,
  answer_rate: 850.2,
  cached_tokens: 11,
  load_seconds: 0,
  total_seconds: 0.0096,
  ended_by: 'end_token',
}

test('figures stand with their units', () => {
  mounted(AnswerFigures, { figures, usage: { prompt_tokens: 12, completion_tokens: 8, total_tokens: 20 } })
  for (const part of ['1.4 ms', '12 tokens, 1,062/s', '8 tokens, 850/s', '11 tokens', 'already loaded', '9.6 ms']) {
    expect(text()).toContain(part)
  }
})

test('a load for the call is shown with its time, and no usage counts as none', () => {
  mounted(AnswerFigures, { figures: { ...figures, load_seconds: 1.5 }, usage: null })
  expect(text()).toContain('1.50 s')
  expect(text()).toContain('0 tokens')
})
