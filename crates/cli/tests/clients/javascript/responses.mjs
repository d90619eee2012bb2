// Uses the responses protocol with the public client, unchanged.
import assert from 'node:assert/strict'

import OpenAI from 'openai'
import { zodTextFormat } from 'openai/helpers/zod'
import { z } from 'zod'

const MODEL = 'larkfen-desk'
const ANSWER = 'Sow Moonhook bean 3 cm deep.'
const question = { model: MODEL, input: 'How deep do I sow Moonhook bean?', temperature: 0 }
const parameters = { type: 'object', properties: { variety: { type: 'string' } }, required: ['variety'], additionalProperties: false }
const tools = [{ type: 'function', name: 'stock_level', description: 'How many packets are left.', parameters, strict: true }]
const { responses } = new OpenAI({ baseURL: `${process.argv[2]}/v1`, apiKey: 'none', maxRetries: 0 })

async function answersAndStreams() {
  const answer = await responses.create(question)
  assert.equal(answer.output_text, ANSWER)
  const stream = responses.stream(question)
  let text = ''
  for await (const event of stream) {
    if (event.type === 'response.output_text.delta') text += event.delta
  }
  assert.equal(text, ANSWER)
  assert.equal((await stream.finalResponse()).output_text, ANSWER)
}

async function keptToolCalls() {
  const stock = { model: MODEL, tools, temperature: 0, store: true }
  const first = await responses.create({ ...stock, input: 'How many packets of Moonhook bean are left?' })
  const call = first.output.find((item) => item.type === 'function_call')
  assert.deepEqual(JSON.parse(call.arguments), { variety: 'Moonhook bean' })
  const input = [{ type: 'function_call_output', call_id: call.call_id, output: '{"packets": 12}' }]
  const second = await responses.create({ ...stock, previous_response_id: first.id, input })
  assert.match(second.output_text, /12/)
  assert.equal((await responses.retrieve(second.id)).output_text, second.output_text)
}

async function structuredOutput() {
  const sowing = z.object({ month: z.enum(['March', 'May']), depth: z.literal([1, 2, 3]) })
  const answer = await responses.parse({ ...question, text: { format: zodTextFormat(sowing, 'sowing') } })
  assert.ok(['March', 'May'].includes(answer.output_parsed.month))
}

async function errors() {
  await assert.rejects(responses.create({ ...question, model: 'nettle' }), (error) => error.code === 'model_not_found')
  await assert.rejects(responses.create({ ...question, conversation: 'conv_1' }), (error) => error.code === 'field_unknown')
}

for (const part of [answersAndStreams, keptToolCalls, structuredOutput, errors]) {
  await part()
  console.log(part.name, 'works')
}
