/** Splits a stream of server-sent events into the data of each event. */
export async function* eventData(stream: ReadableStream<Uint8Array<ArrayBuffer>>): AsyncGenerator<string> {
  const reader = stream.pipeThrough(new TextDecoderStream()).getReader()
  let pending = ''
  for (;;) {
    const { done, value } = await reader.read()
    if (done) return
    pending += value
    const events = pending.split('\n\n')
    pending = events.pop() ?? ''
    for (const event of events) {
      const data = event
        .split('\n')
        .filter((line) => line.startsWith('data:'))
        .map((line) => line.slice(5).trimStart())
      if (data.length > 0) yield data.join('\n')
    }
  }
}
