import { onScopeDispose, ref } from 'vue'

import { ask, type ChatChunk, type Figures, type Question, Refused, type Usage } from '../api/client'
import { eventData } from '../api/events'

/** One answer as it comes, with its figures; a new question or leaving the page ends it. */
export function useAnswer() {
  const text = ref('')
  const running = ref(false)
  const figures = ref<Figures | null>(null)
  const usage = ref<Usage | null>(null)
  const problem = ref<Refused | null>(null)
  let abort = new AbortController()

  async function take(stream: ReadableStream<Uint8Array<ArrayBuffer>>) {
    for await (const data of eventData(stream)) {
      if (data === '[DONE]') return
      const chunk: ChatChunk & { error?: { message: string } } = JSON.parse(data)
      if (chunk.error) throw new Refused({ detail: chunk.error.message })
      text.value += chunk.choices[0]?.delta.content ?? ''
      figures.value = chunk.choices[0]?.deft ?? figures.value
      usage.value = chunk.usage ?? usage.value
    }
    throw new Refused({ detail: 'the connection to the service broke' })
  }

  /** Asks; resolves to the answer's text, or to nothing where it was stopped or failed. */
  async function begin(question: Question): Promise<string | null> {
    stop()
    const mine = (abort = new AbortController())
    text.value = ''
    figures.value = usage.value = problem.value = null
    running.value = true
    try {
      await take(await ask(question, mine.signal))
      return text.value
    } catch (error) {
      if (!mine.signal.aborted) {
        problem.value = error instanceof Refused ? error : new Refused({ detail: String(error) })
      }
      return null
    } finally {
      if (mine === abort) running.value = false
    }
  }

  function stop() {
    abort.abort()
    running.value = false
  }

  onScopeDispose(stop)
  return { text, running, figures, usage, problem, begin, stop }
}
