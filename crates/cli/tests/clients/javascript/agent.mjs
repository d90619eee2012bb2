// Drives the demo desk's tools for ten turns with a public agent library.
import assert from 'node:assert/strict'

import { createOpenAICompatible } from '@ai-sdk/openai-compatible'
import { generateText, stepCountIs, streamText, tool } from 'ai'
import { z } from 'zod'

const model = createOpenAICompatible({ name: 'deft', baseURL: `${process.argv[2]}/v1` })('larkfen-desk')
const questions = [
  ['How many packets of Moonhook bean are left?', /12/],
  ['Please reserve 3 packets of Moonhook bean.', /3/],
  ['How many packets of Ember chard are left?', /34/],
  ['Please reserve 2 packets of Ember chard.', /2/],
  ['How many packets of Moonhook bean are left?', /9/],
]

async function loop(answer) {
  const stock = { 'Moonhook bean': 12, 'Ember chard': 34 }
  const calls = []
  const tools = {
    stock_level: tool({
      description: 'How many packets of a variety are on the shelf now.',
      inputSchema: z.object({ variety: z.string() }),
      execute: async ({ variety }) => {
        calls.push(variety)
        return { variety, packets: stock[variety] }
      },
    }),
    reserve_packets: tool({
      description: 'Set packets aside for a visitor.',
      inputSchema: z.object({ variety: z.string(), packets: z.number().int() }),
      execute: async ({ variety, packets }) => {
        calls.push(variety)
        stock[variety] -= packets
        return { ok: true }
      },
    }),
  }
  const messages = []
  let turns = 0
  for (const [content, expected] of questions) {
    messages.push({ role: 'user', content })
    const { text, steps, responseMessages } = await answer({
      model, messages, tools, temperature: 0, maxOutputTokens: 60, stopWhen: stepCountIs(4), maxRetries: 0,
    })
    assert.match(text, expected)
    messages.push(...responseMessages)
    turns += steps.length
  }
  assert.deepEqual([turns, calls.length], [10, 5])
}

async function whole(request) {
  const result = await generateText(request)
  return { text: result.text, steps: result.steps, responseMessages: result.response.messages }
}

async function streamed(request) {
  const result = streamText(request)
  return { text: await result.text, steps: await result.steps, responseMessages: (await result.response).messages }
}

for (const answer of [whole, streamed]) {
  await loop(answer)
  console.log('ten turns work,', answer.name)
}
