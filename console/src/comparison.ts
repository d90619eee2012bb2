/** One question with the answers of several models, and how they are kept and written out. */
import type { Figures, Usage } from './api/client'
import { bytes, count, seconds } from './format'

export interface Column {
  model: string
  answer: string
  memory_bytes?: number
  figures?: Figures
  usage?: Usage
  problem?: string
}

export interface Comparison {
  question: string
  asked_at: string
  answers: Column[]
}

/** Titles of the columns: a model that is asked several times has numbers. */
export function titles(models: string[]): string[] {
  const times = (model: string, until = models.length) =>
    models.slice(0, until).filter((other) => other === model).length
  return models.map((model, at) => (times(model) === 1 ? model : `${model} (${times(model, at) + 1})`))
}

/** The figures under an answer, each with its name; empty where one is not known. */
export function figuresOf({ memory_bytes, figures, usage }: Column): [string, string][] {
  const tokens = (number: number | undefined, rate: number) =>
    `${count(number ?? 0)} tokens, ${count(Math.round(rate))}/s`
  const told = (tell: (figures: Figures) => string) => (figures ? tell(figures) : '')
  return [
    ['memory', memory_bytes == null ? '' : bytes(memory_bytes)],
    ['load', told((f) => (f.load_seconds > 0 ? seconds(f.load_seconds) : 'was loaded'))],
    ['first token', told((f) => seconds(f.first_token_seconds))],
    ['prompt', told((f) => tokens(usage?.prompt_tokens, f.prompt_rate))],
    ['answer', told((f) => tokens(usage?.completion_tokens, f.answer_rate))],
    ['total', told((f) => seconds(f.total_seconds))],
  ]
}

/** As Markdown: the question, a table of the figures, the answers. */
export function markdown({ question, asked_at, answers }: Comparison): string {
  const quoted = question.split('\n').map((line) => `> ${line}`)
  const row = (name: string, cells: string[]) =>
    `| ${[name, ...cells.map((cell) => cell.replaceAll('|', '\\|'))].join(' | ')} |`
  const figures = answers.map(figuresOf)
  const table = [
    row('', answers.map((column) => column.model)),
    row('---', answers.map(() => '---')),
    ...(figures[0] ?? []).map(([name], at) => row(name, figures.map((all) => all[at]?.[1] ?? ''))),
  ]
  const texts = answers.flatMap(({ model, answer, problem }) => [
    '',
    `## ${model}`,
    '',
    [answer, problem && `(${problem})`].filter(Boolean).join('\n').trim(),
  ])
  return ['# Side by side', '', ...quoted, '', `Asked ${asked_at}.`, '', ...table, ...texts, ''].join('\n')
}

const KEPT = 'deft-side-by-side'
const MOST_KEPT = 20

/** What was kept in this browser, the newest first; what cannot be read is forgotten. */
export function kept(): Comparison[] {
  try {
    const found = JSON.parse(localStorage.getItem(KEPT) ?? '[]')
    return Array.isArray(found) ? found : []
  } catch {
    return []
  }
}

/** Keeps comparisons in this browser, as many as there is room for. */
export function keep(all: Comparison[]): Comparison[] {
  const newest = all.slice(0, MOST_KEPT)
  localStorage.setItem(KEPT, JSON.stringify(newest))
  return newest
}
