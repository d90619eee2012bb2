// Uses the messages protocol with its public client, unchanged.
import assert from 'node:assert/strict'

import Anthropic from '@anthropic-ai/sdk'

const MODEL = 'larkfen-desk'
const ANSWER = 'Sow Moonhook bean 3 cm deep.'
const question = { model: MODEL, max_tokens: 60, temperature: 0, messages: [{ role: 'user', content: 'How deep do I sow Moonhook bean?' }] }
const stock = [{ role: 'user', content: 'How many packets of Moonhook bean are left?' }]
const input_schema = { type: 'object', properties: { variety: { type: 'string' } }, required: ['variety'] }
const tools = [{ name: 'stock_level', description: 'How many packets are left.', input_schema }]
const { messages } = new Anthropic({ baseURL: process.argv[2], apiKey: 'none', maxRetries: 0 })

async function answersAndStreams() {
  const answer = await messages.create(question)
  assert.equal(answer.content[0].text, ANSWER)
  assert.equal(answer.stop_reason, 'end_turn')
  const stream = messages.stream(question)
  assert.equal(await stream.finalText(), ANSWER)
  assert.equal((await stream.finalMessage()).usage.output_tokens, answer.usage.output_tokens)
}

async function toolCalls() {
  const first = await messages.stream({ ...question, messages: stock, tools }).finalMessage()
  const call = first.content.find((block) => block.type === 'tool_use')
  assert.deepEqual(call.input, { variety: 'Moonhook bean' })
  const result = { type: 'tool_result', tool_use_id: call.id, content: '{"packets": 12}' }
  const turns = [...stock, { role: 'assistant', content: first.content }, { role: 'user', content: [result] }]
  const second = await messages.create({ ...question, messages: turns, tools })
  assert.match(second.content[0].text, /12/)
}

async function errors() {
  await assert.rejects(messages.create({ ...question, model: 'nettle' }), (error) => error.status === 404)
  await assert.rejects(messages.create({ ...question, audio: {} }), (error) => error.error.error.code === 'field_unknown')
}

for (const part of [answersAndStreams, toolCalls, errors]) {
  await part()
  console.log(part.name, 'works')
}
