// Uses the service with the public client of the chat-completions protocol, unchanged.
import assert from 'node:assert/strict'

import OpenAI from 'openai'
import { zodResponseFormat } from 'openai/helpers/zod'
import { z } from 'zod'

const MODEL = 'larkfen-desk'
const ANSWER = 'Sow Moonhook bean 3 cm deep.'
const messages = [{ role: 'user', content: 'How deep do I sow Moonhook bean?' }]
const stock = [{ role: 'user', content: 'How many packets of Moonhook bean are left?' }]
const parameters = {
  type: 'object',
  properties: { variety: { type: 'string' } },
  required: ['variety'],
  additionalProperties: false,
}
const client = new OpenAI({ baseURL: `${process.argv[2]}/v1`, apiKey: 'none', maxRetries: 0 })
const chat = client.chat.completions

async function answersAndStreams() {
  const answer = await chat.create({ model: MODEL, messages, temperature: 0 })
  assert.equal(answer.choices[0].message.content, ANSWER)
  assert.ok(answer._request_id)
  let text = ''
  for await (const chunk of await chat.create({ model: MODEL, messages, temperature: 0, stream: true })) {
    text += chunk.choices[0]?.delta.content ?? ''
  }
  assert.equal(text, ANSWER)
  const stream = chat.stream({ model: MODEL, messages, temperature: 0 })
  assert.equal(await stream.finalContent(), ANSWER)
}

async function tools() {
  const asked = []
  const stock_level = ({ variety }) => {
    asked.push(variety)
    return JSON.stringify({ variety, packets: 12 })
  }
  const tool = { type: 'function', function: { name: 'stock_level', function: stock_level, parse: JSON.parse, parameters } }
  const runner = chat.runTools({ model: MODEL, messages: stock, temperature: 0, tools: [tool] })
  assert.match(await runner.finalContent(), /12/)
  assert.deepEqual(asked, ['Moonhook bean'])
}

async function structuredOutput() {
  const sowing = z.object({ month: z.enum(['March', 'May']), depth: z.literal([1, 2, 3]) })
  const response_format = zodResponseFormat(sowing, 'sowing')
  const answer = await chat.parse({ model: MODEL, messages, temperature: 0, response_format })
  assert.ok(['March', 'May'].includes(answer.choices[0].message.parsed.month))
}

async function otherRoutes() {
  const { data } = await client.embeddings.create({ model: 'larkfen-find', input: ['bean', 'chard'] })
  assert.equal(data[1].embedding.length, 128)
  const text = await client.completions.create({ model: MODEL, prompt: 'Sow Moonhook bean', max_tokens: 4 })
  assert.equal(text.choices[0].finish_reason, 'length')
  assert.equal((await client.models.retrieve('larkfen-desk/q8_0')).id, 'larkfen-desk/q8_0')
}

async function errors() {
  await assert.rejects(client.models.retrieve('nettle'), (error) => error.code === 'model_not_found' && error.status === 404)
  await assert.rejects(chat.create({ model: MODEL, messages, audio: {} }), (error) => error.code === 'field_unknown')
}

for (const part of [answersAndStreams, tools, structuredOutput, otherRoutes, errors]) {
  await part()
  console.log(part.name, 'works')
}
