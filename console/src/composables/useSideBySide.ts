import { onScopeDispose, reactive, ref } from 'vue'

import { streamAnswer } from '../api/answers'
import { asRefused, statusNow } from '../api/client'
import { type Column, type Comparison, titles } from '../comparison'

/** How several models are asked. */
export interface Asking {
  models: string[]
  question: string
  temperature: number
  sequential: boolean
  /** Unload each after its answer. */
  unloadAfter: boolean
}

/** One question to several models; a new one or leaving the page ends it. */
export function useSideBySide() {
  const comparison = ref<Comparison | null>(null)
  const running = ref(false)
  let abort = new AbortController()

  /** Memory of the instance: measured, or reserved where it was not measured yet. */
  async function lookAtMemory(column: Column, model: string) {
    const status = await statusNow().catch(() => null)
    const found = status?.instances.find((instance) => instance.name === model)
    column.memory_bytes = found?.measured_bytes ?? found?.reserved_bytes
  }

  async function askOne(column: Column, model: string, asking: Asking, signal: AbortSignal) {
    const messages = [{ role: 'user', content: asking.question }]
    const unload = asking.unloadAfter ? { unload_after: true } : {}
    try {
      await streamAnswer({ model, messages, temperature: asking.temperature, ...unload }, signal, {
        reasoning: (more) => {
          if (!column.reasoning) void lookAtMemory(column, model)
          column.reasoning = (column.reasoning ?? '') + more
        },
        text: (more) => {
          if (!column.answer && !column.reasoning) void lookAtMemory(column, model)
          column.answer += more
        },
        figures: (figures) => (column.figures = figures),
        usage: (usage) => (column.usage = usage),
      })
    } catch (error) {
      if (!signal.aborted) column.problem = asRefused(error).message
    }
  }

  async function begin(asking: Asking) {
    stop()
    const mine = (abort = new AbortController())
    const answers = titles(asking.models).map((model): Column => reactive({ model, answer: '' }))
    comparison.value = { question: asking.question, asked_at: new Date().toISOString(), answers }
    running.value = true
    const one = (column: Column, at: number) =>
      askOne(column, asking.models[at] ?? column.model, asking, mine.signal)
    if (asking.sequential || asking.unloadAfter) {
      for (const [at, column] of answers.entries()) {
        if (!mine.signal.aborted) await one(column, at)
      }
    } else {
      await Promise.all(answers.map(one))
    }
    if (mine === abort) running.value = false
  }

  function stop() {
    abort.abort()
    running.value = false
  }

  onScopeDispose(stop)
  return { comparison, running, begin, stop }
}
