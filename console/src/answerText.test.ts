import { expect, test } from 'vitest'

import { segments } from './answerText'

test('blocks of code are told from the text around them', () => {
  const answer = 'Sow so:\n```python\nsow("Moonhook bean")\n```\nand wait.'
  expect(segments(answer)).toEqual([
    { kind: 'text', text: 'Sow so:', language: '' },
    { kind: 'code', text: 'sow("Moonhook bean")', language: 'python' },
    { kind: 'text', text: 'and wait.', language: '' },
  ])
})

test('a block that is still being written is code already', () => {
  expect(segments('```\nrow = 3')).toEqual([{ kind: 'code', text: 'row = 3', language: '' }])
})

test('a fence inside a longer fence is code', () => {
  const [only] = segments('````\n```\n````')
  expect(only).toEqual({ kind: 'code', text: '```', language: '' })
})

test('plain text stays as it is', () => {
  expect(segments('a\n\nb')).toEqual([{ kind: 'text', text: 'a\n\nb', language: '' }])
  expect(segments('')).toEqual([])
})
