import { expect, test } from 'vitest'

import { eventData } from './events'

async function collect(pieces: string[]): Promise<string[]> {
  const bytes = new TextEncoder()
  const stream = new ReadableStream<Uint8Array<ArrayBuffer>>({
    start(controller) {
      for (const piece of pieces) controller.enqueue(bytes.encode(piece))
      controller.close()
    },
  })
  const found = []
  for await (const data of eventData(stream)) found.push(data)
  return found
}

test('events are found however the stream is cut', async () => {
  const text = 'data: {"a":1}\n\n: a comment\n\ndata: zwei\ndata: zeilen\n\ndata: [DONE]\n\n'
  const expected = ['{"a":1}', 'zwei\nzeilen', '[DONE]']
  expect(await collect([text])).toEqual(expected)
  expect(await collect([...text])).toEqual(expected)
})
