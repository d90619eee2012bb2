/** One question with the answers of several models, saved in the browser and written as Markdown. */
import type { Figures, Usage } from './api/client'
import { bytes, count, seconds } from './format'
import { t } from './i18n'

export interface Column {
  model: string
  answer: string
  /** The model's reasoning before the answer; comparisons saved earlier have none. */
  reasoning?: string
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
    t('common.tokensAtRate', { count: count(number ?? 0), rate: count(Math.round(rate)) })
  const told = (tell: (figures: Figures) => string) => (figures ? tell(figures) : '')
  return [
    [t('figures.memory'), memory_bytes == null ? '' : bytes(memory_bytes)],
    [t('figures.load'), told((f) => (f.load_seconds > 0 ? seconds(f.load_seconds) : t('figures.alreadyLoaded')))],
    [t('figures.firstToken'), told((f) => seconds(f.first_token_seconds))],
    [t('figures.prompt'), told((f) => tokens(usage?.prompt_tokens, f.prompt_rate))],
    [t('figures.answer'), told((f) => tokens(usage?.completion_tokens, f.answer_rate))],
    [t('figures.total'), told((f) => seconds(f.total_seconds))],
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
  return [`# ${t('sideBySide.title')}`, '', ...quoted, '', t('sideBySide.asked', { time: asked_at }), '', ...table, ...texts, ''].join('\n')
}

const KEY = 'deft-side-by-side'
const MOST_SAVED = 20

/** Comparisons saved in this browser, newest first; those that cannot be read are dropped. */
export function saved(): Comparison[] {
  try {
    const found = JSON.parse(localStorage.getItem(KEY) ?? '[]')
    return Array.isArray(found) ? found : []
  } catch {
    return []
  }
}

/** Saves comparisons in this browser, up to a limit. */
export function save(all: Comparison[]): Comparison[] {
  const newest = all.slice(0, MOST_SAVED)
  localStorage.setItem(KEY, JSON.stringify(newest))
  return newest
}
