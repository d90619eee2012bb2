// Answers a batch with the public client, unchanged.
import assert from 'node:assert/strict'
import { setTimeout } from 'node:timers/promises'

import OpenAI, { toFile } from 'openai'

const messages = [{ role: 'user', content: 'How deep do I sow Moonhook bean?' }]
const body = { model: 'larkfen-desk', messages, temperature: 0 }
const line = (custom_id) => JSON.stringify({ custom_id, method: 'POST', url: '/v1/chat/completions', body })
const client = new OpenAI({ baseURL: `${process.argv[2]}/v1`, apiKey: 'none', maxRetries: 0 })

const calls = await toFile(Buffer.from(`${line('first')}\n${line('second')}\n`), 'calls.jsonl')
const file = await client.files.create({ file: calls, purpose: 'batch' })
const request = { input_file_id: file.id, endpoint: '/v1/chat/completions', completion_window: '24h' }
let batch = await client.batches.create(request)
for (let round = 0; round < 300 && batch.status !== 'completed'; round += 1) {
  await setTimeout(100)
  batch = await client.batches.retrieve(batch.id)
}
assert.deepEqual(batch.request_counts, { total: 2, completed: 2, failed: 0 })
const text = await (await client.files.content(batch.output_file_id)).text()
const answers = text.trim().split('\n').map((answer) => JSON.parse(answer))
assert.deepEqual(answers.map((answer) => answer.custom_id).sort(), ['first', 'second'])
assert.equal(answers[0].response.body.choices[0].message.content, 'Sow Moonhook bean 3 cm deep.')
console.log('a batch works')
