import { afterEach, expect, test, vi } from 'vitest'
import { effectScope } from 'vue'

import { useAnswer } from './useAnswer'

const FIGURES = { ended_by: 'end_token', first_token_seconds: 0.01, cached_tokens: 3 }

function chunk(content: string | undefined, more: object = {}) {
  const choice = { index: 0, delta: { content }, ...more }
  return `data: ${JSON.stringify({ choices: [choice] })}\n\n`
}

/** Answers every request with these events, cut where they stand. */
function serve(...pieces: string[]) {
  const bytes = new TextEncoder()
  const body = new ReadableStream<Uint8Array<ArrayBuffer>>({
    start(controller) {
      for (const piece of pieces) controller.enqueue(bytes.encode(piece))
      controller.close()
    },
  })
  vi.stubGlobal('fetch', vi.fn(async () => new Response(body, { status: 200 })))
}

function answer() {
  const scope = effectScope()
  const used = scope.run(useAnswer)
  if (!used) throw new Error('the scope is over')
  return { ...used, leave: () => scope.stop() }
}

const QUESTION = { model: 'larkfen-desk', messages: [{ role: 'user', content: 'Hello' }] }

afterEach(() => vi.unstubAllGlobals())

test('reasoning is kept apart from the answer', async () => {
  serve(chunk(undefined, { delta: { reasoning_content: 'Beans like it warm.' } }), chunk('In May.', { deft: FIGURES }), 'data: [DONE]\n\n')
  const { begin, text, reasoning } = answer()
  expect(await begin(QUESTION)).toBe('In May.')
  expect([text.value, reasoning.value]).toEqual(['In May.', 'Beans like it warm.'])
})

test('text, figures and counts are taken from the stream', async () => {
  serve(
    chunk(''),
    chunk('Sow '),
    chunk('it.'),
    chunk(undefined, { finish_reason: 'stop', deft: FIGURES }),
    'data: {"choices": [], "usage": {"prompt_tokens": 5, "completion_tokens": 2}}\n\n',
    'data: [DONE]\n\n',
  )
  const { begin, text, figures, usage, problem, running } = answer()
  expect(await begin(QUESTION)).toBe('Sow it.')
  expect(text.value).toBe('Sow it.')
  expect(figures.value?.ended_by).toBe('end_token')
  expect(usage.value?.prompt_tokens).toBe(5)
  expect(problem.value).toBeNull()
  expect(running.value).toBe(false)
})

test('an error in the stream is told and the text so far stays', async () => {
  serve(chunk('Sow'), 'data: {"error": {"message": "the engine ended"}}\n\n')
  const { begin, text, problem } = answer()
  expect(await begin(QUESTION)).toBeNull()
  expect(text.value).toBe('Sow')
  expect(problem.value?.problem.detail).toBe('the engine ended')
})

test('a stream that breaks off is told', async () => {
  serve(chunk('Sow'))
  const { begin, problem } = answer()
  expect(await begin(QUESTION)).toBeNull()
  expect(problem.value?.problem.detail).toContain('broke')
})

test('a refusal comes with its way out', async () => {
  const refusal = { detail: 'it does not fit', way_out: '--lanes 1' }
  vi.stubGlobal('fetch', vi.fn(async () => new Response(JSON.stringify(refusal), { status: 409 })))
  const { begin, problem } = answer()
  await begin(QUESTION)
  expect(problem.value?.problem).toMatchObject(refusal)
})

test('leaving the page ends the call without a problem', async () => {
  let signal: AbortSignal | undefined
  vi.stubGlobal(
    'fetch',
    vi.fn((_: string, init: RequestInit) => {
      signal = init.signal ?? undefined
      return new Promise((_, reject) => signal?.addEventListener('abort', () => reject(new Error('aborted'))))
    }),
  )
  const { begin, problem, running, leave } = answer()
  const asked = begin(QUESTION)
  expect(running.value).toBe(true)
  leave()
  expect(await asked).toBeNull()
  expect(signal?.aborted).toBe(true)
  expect(problem.value).toBeNull()
  expect(running.value).toBe(false)
})
