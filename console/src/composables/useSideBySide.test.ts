import { afterEach, expect, test, vi } from 'vitest'
import { effectScope } from 'vue'

import { useSideBySide } from './useSideBySide'

const FIGURES = { ended_by: 'end_token', first_token_seconds: 0.01 }

/** Streams an answer with reasoning to every call; the status has one instance. */
function serve(pieces: object[]) {
  const asked: string[] = []
  const chunk = (delta: object, more: object = {}) => `data: ${JSON.stringify({ choices: [{ index: 0, delta, ...more }] })}\n\n`
  vi.stubGlobal('fetch', async (path: string, init?: RequestInit) => {
    if (path.includes('/status')) {
      return Response.json({ instances: [{ name: 'larkfen-desk/q8_0', measured_bytes: 4096, reserved_bytes: 9000 }] })
    }
    asked.push(JSON.parse(String(init?.body)).model)
    return new Response([...pieces.map((delta) => chunk(delta)), chunk({}, { deft: FIGURES }), 'data: [DONE]\n\n'].join(''))
  })
  return asked
}

function used() {
  const scope = effectScope()
  const found = scope.run(useSideBySide)
  if (!found) throw new Error('the scope is over')
  return { ...found, leave: () => scope.stop() }
}

const ASKING = { question: 'When do I sow?', temperature: 0, sequential: true, unloadAfter: false }

afterEach(() => vi.unstubAllGlobals())

test('reasoning stands apart from each answer, and memory is looked at with the first word', async () => {
  const asked = serve([{ reasoning_content: 'Beans like ' }, { reasoning_content: 'it warm.' }, { content: 'In May.' }])
  const { begin, comparison, running } = used()
  await begin({ ...ASKING, models: ['larkfen-desk/q8_0', 'larkfen-desk-mini/q8_0'] })
  expect(asked).toEqual(['larkfen-desk/q8_0', 'larkfen-desk-mini/q8_0'])
  const answers = comparison.value?.answers ?? []
  expect(answers.map(({ answer, reasoning }) => [answer, reasoning])).toEqual([
    ['In May.', 'Beans like it warm.'],
    ['In May.', 'Beans like it warm.'],
  ])
  await vi.waitFor(() => expect(answers[0]?.memory_bytes).toBe(4096))
  expect(answers[1]?.memory_bytes).toBeUndefined()
  expect(running.value).toBe(false)
})

test('a model without reasoning has none, and one that fails says why', async () => {
  serve([{ content: 'In ' }, { content: 'May.' }])
  const { begin, comparison } = used()
  await begin({ ...ASKING, models: ['larkfen-desk/q8_0'] })
  expect(comparison.value?.answers[0]).toMatchObject({ answer: 'In May.' })
  expect(comparison.value?.answers[0]?.reasoning).toBeUndefined()
  vi.stubGlobal('fetch', async () => Response.json({ error: { message: 'no room' } }, { status: 503 }))
  await begin({ ...ASKING, models: ['larkfen-desk/q8_0'] })
  expect(comparison.value?.answers[0]?.problem).toContain('no room')
})
