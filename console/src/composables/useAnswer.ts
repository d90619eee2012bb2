import { onScopeDispose, ref } from 'vue'

import { streamAnswer } from '../api/answers'
import { asRefused, type Figures, type Question, type Refused, type Usage } from '../api/client'

/** One answer as it comes, with its figures; a new question or leaving the page ends it. */
export function useAnswer() {
  const text = ref('')
  /** The model's reasoning before the answer. */
  const reasoning = ref('')
  const running = ref(false)
  const figures = ref<Figures | null>(null)
  const usage = ref<Usage | null>(null)
  const problem = ref<Refused | null>(null)
  let abort = new AbortController()

  /** Asks; resolves to the answer's text, or to nothing where it was stopped or failed. */
  async function begin(question: Question): Promise<string | null> {
    stop()
    const mine = (abort = new AbortController())
    text.value = reasoning.value = ''
    figures.value = usage.value = problem.value = null
    running.value = true
    try {
      await streamAnswer(question, mine.signal, {
        text: (more) => (text.value += more),
        reasoning: (more) => (reasoning.value += more),
        figures: (told) => (figures.value = told),
        usage: (told) => (usage.value = told),
      })
      return text.value
    } catch (error) {
      if (!mine.signal.aborted) problem.value = asRefused(error)
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
  return { text, reasoning, running, figures, usage, problem, begin, stop }
}
