import { afterEach, expect, test, vi } from 'vitest'

import { ask, check, inspect, load, Refused, refusalOf, unload } from './client'

afterEach(() => vi.unstubAllGlobals())

function serve(status: number, body: unknown) {
  const fetch = vi.fn<typeof globalThis.fetch>(async () => new Response(JSON.stringify(body), { status }))
  vi.stubGlobal('fetch', fetch)
  return fetch
}

test('names go into addresses piece by piece', async () => {
  const fetch = serve(200, { name: 'larkfen-desk/q8_0' })
  await inspect('larkfen-desk/q8_0')
  expect(fetch.mock.calls[0]?.[0]).toBe('/manage/v1/depot/larkfen-desk/q8_0')
  await inspect('odd name')
  expect(fetch.mock.calls[1]?.[0]).toBe('/manage/v1/depot/odd%20name')
})

test('what is sent is JSON, and says that it is', async () => {
  const fetch = serve(200, {})
  await load({ model: 'larkfen-desk', settings: { context: 512 } })
  await check('larkfen-desk')
  const [path, init] = fetch.mock.calls[0] ?? []
  expect(path).toBe('/manage/v1/instances')
  expect(init?.headers).toEqual({ 'content-type': 'application/json' })
  expect(JSON.parse(String(init?.body))).toEqual({ model: 'larkfen-desk', settings: { context: 512 } })
  expect(fetch.mock.calls[1]?.[0]).toBe('/manage/v1/checks')
  await unload('01')
  expect(fetch.mock.calls[2]?.[1]?.method).toBe('DELETE')
})

test('refusals keep what the service said, in either shape', async () => {
  const read = (body: unknown) => refusalOf(new Response(JSON.stringify(body), { status: 409 }))
  expect((await read({ detail: 'no room', way_out: '--lanes 1' })).problem.way_out).toBe('--lanes 1')
  expect((await read({ error: { message: 'no model' } })).problem.detail).toBe('no model')
  expect((await read('odd')).problem.detail).toBe('the service answered with status 409')
})

test('a service that is away is told with the way to start it', async () => {
  vi.stubGlobal('fetch', vi.fn(async () => Promise.reject(new TypeError('refused'))))
  const asked = ask({ model: 'larkfen-desk', messages: [] }, new AbortController().signal)
  await expect(asked).rejects.toThrow(Refused)
  await expect(asked).rejects.toThrow('does not answer')
})
