import { expect, test } from 'vitest'

import type { Figures } from './api/client'
import { type Comparison, markdown, titles } from './comparison'

const FIGURES: Figures = {
  ended_by: 'end_token',
  cached_tokens: 0,
  left_out_messages: 0,
  first_token_seconds: 0.05,
  load_seconds: 0,
  queue_seconds: 0,
  prompt_seconds: 0.04,
  prompt_rate: 700,
  answer_seconds: 0.1,
  answer_rate: 90,
  total_seconds: 0.15,
  context: 1024,
}

test('a model that is asked several times has numbers', () => {
  expect(titles(['larkfen-desk', 'larkfen-find', 'larkfen-desk'])).toEqual([
    'larkfen-desk (1)',
    'larkfen-find',
    'larkfen-desk (2)',
  ])
})

test('what is written out has the question, the figures and the answers', () => {
  const comparison: Comparison = {
    question: 'How deep do I sow\nMoonhook bean?',
    asked_at: '2026-05-01T09:30:00Z',
    answers: [
      {
        model: 'larkfen-desk',
        answer: '3 cm deep.',
        memory_bytes: 9437184,
        figures: FIGURES,
        usage: { prompt_tokens: 28, completion_tokens: 9, total_tokens: 37 },
      },
      { model: 'larkfen-desk-mini', answer: '', problem: 'no room | for it' },
    ],
  }
  const text = markdown(comparison)
  expect(text).toContain('> How deep do I sow\n> Moonhook bean?\n')
  expect(text).toContain('| memory | 9.00 MiB |  |')
  expect(text).toContain('| answer | 9 tokens, 90/s |  |')
  expect(text).toContain('## larkfen-desk\n\n3 cm deep.\n')
  expect(text).toContain('## larkfen-desk-mini\n\n(no room | for it)\n')
})
