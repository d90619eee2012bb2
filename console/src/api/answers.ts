/** Answers as they come. */
import { ask, type ChatChunk, type Figures, type Question, Refused, type Usage } from './client'
import { eventData } from './events'

/** Whoever takes an answer. */
export interface Taker {
  text: (more: string) => void
  reasoning: (more: string) => void
  figures: (figures: Figures) => void
  usage: (usage: Usage) => void
}

/** Asks, and hands on what comes; returns when the answer is complete. */
export async function streamAnswer(question: Question, signal: AbortSignal, taker: Taker): Promise<void> {
  for await (const data of eventData(await ask(question, signal))) {
    if (data === '[DONE]') return
    const chunk: ChatChunk & { error?: { message: string } } = JSON.parse(data)
    if (chunk.error) throw new Refused({ detail: chunk.error.message })
    const choice = chunk.choices[0]
    if (choice?.delta.reasoning_content) taker.reasoning(choice.delta.reasoning_content)
    if (choice?.delta.content) taker.text(choice.delta.content)
    if (choice?.deft) taker.figures(choice.deft)
    if (chunk.usage) taker.usage(chunk.usage)
  }
  throw new Refused({ detail: 'the connection to the service broke' })
}
