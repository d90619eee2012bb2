/** The only place that speaks HTTP. Types come from the service's OpenAPI document. */
import type { components } from './schema'

type Schemas = components['schemas']
export type Status = Schemas['ServiceStatus']
export type Instance = Schemas['InstanceReport']
export type Pool = Schemas['Pool']
export type Variant = Schemas['Variant']
export type Snippet = Schemas['Snippet']
export type Plan = Schemas['ModelPlan']
export type PoolPlan = Schemas['PoolPlan']
export type PlanReport = Schemas['PlanReport']
export type Way = Schemas['Way']
export type Decision = Schemas['Decision']
export type LoadRequest = Schemas['LoadRequest']
export type Call = Schemas['RunningCall']
export type CallRecord = Schemas['CallRecord']
export type History = Schemas['History']
export type Transfer = Schemas['Transfer']
export type ImportRequest = Schemas['ImportRequest']
export type FoundModel = Schemas['FoundModel']
export type DepotUsage = Schemas['DepotUsage']
export type Removal = Schemas['Removal']
export type Source = Schemas['SourceReport']
export type SourceKind = Schemas['SourceKind']
export type SourceRequest = Schemas['SourceRequest']
export type SourceCheck = Schemas['SourceCheck']
export type SearchReport = Schemas['SearchReport']
export type Offer = Schemas['OfferReport']
export type Fit = Schemas['Fit']
export type Preview = Schemas['Preview']
export type PullRequest = Schemas['PullRequest']
export type ListingRules = Schemas['ListingRules']
export type CheckReport = Schemas['CheckReport']
export type PlanPart = Schemas['PlanPart']
export type Problem = Schemas['Problem']
export type SettingName = Schemas['SettingName']
export type SettingsRequest = Schemas['SettingsRequest']
export type ChatChunk = Schemas['ChatChunk']
export type Figures = Schemas['Figures']
export type Usage = Schemas['Usage']
export type Trace = Schemas['Trace']
export type TraceSummary = Schemas['TraceSummary']

/** What the service refused, with its way out. */
export class Refused extends Error {
  constructor(readonly problem: Pick<Problem, 'detail' | 'way_out' | 'ways'> & Partial<Pick<Problem, 'kind'>>) {
    super(problem.detail)
  }

  /** Whether this browser has no permission to manage. */
  get needsPermission(): boolean {
    return this.problem.kind === 'unauthorized'
  }
}

const UNREACHABLE = { detail: 'the service does not answer', way_out: 'start it: deft service start' }

/** Whatever was thrown, as something to show. */
export function asRefused(error: unknown): Refused {
  return error instanceof Refused ? error : new Refused({ detail: String(error) })
}

/** The problem of a response that is no success. */
export async function refusalOf(response: Response): Promise<Refused> {
  const body = await response.json().catch(() => null)
  if (typeof body?.detail === 'string') return new Refused(body)
  if (typeof body?.error?.message === 'string') return new Refused({ detail: body.error.message })
  return new Refused({ detail: `the service answered with status ${response.status}` })
}

async function call(path: string, init?: RequestInit): Promise<Response> {
  const response = await fetch(path, init).catch(() => null)
  if (!response) throw new Refused(UNREACHABLE)
  if (!response.ok) throw await refusalOf(response)
  return response
}

function send(method: string, path: string, body: unknown, signal?: AbortSignal): Promise<Response> {
  const headers = { 'content-type': 'application/json' }
  return call(path, { method, headers, body: JSON.stringify(body), signal })
}

function post(path: string, body: unknown, signal?: AbortSignal): Promise<Response> {
  return send('POST', path, body, signal)
}

export async function depot(): Promise<Variant[]> {
  return (await call('/manage/v1/depot')).json()
}

export async function inspect(name: string): Promise<Variant> {
  return (await call(variantPath(name))).json()
}

/** Working calls of a model of this server. */
export async function snippets(model: string): Promise<Snippet[]> {
  return (await call(`/manage/v1/snippets?model=${encodeURIComponent(model)}`)).json()
}

function variantPath(name: string): string {
  return `/manage/v1/depot/${name.split('/').map(encodeURIComponent).join('/')}`
}

/** Places that models come from. */
export async function beginTracing(model: string, seconds: number): Promise<void> {
  await post('/manage/v1/tracing', { model, seconds })
}

export async function stopTracing(model?: string): Promise<void> {
  const query = model === undefined ? '' : `?${new URLSearchParams({ model })}`
  await call(`/manage/v1/tracing${query}`, { method: 'DELETE' })
}

export async function traces(): Promise<TraceSummary[]> {
  return (await call('/manage/v1/traces')).json()
}

export async function trace(id: string): Promise<Trace> {
  return (await call(`/manage/v1/traces/${id}`)).json()
}

export async function sources(): Promise<Source[]> {
  return (await call('/manage/v1/sources')).json()
}

export async function addSource(request: SourceRequest): Promise<Source> {
  return (await post('/manage/v1/sources', request)).json()
}

/** Looks whether a source can be asked. */
export async function checkSource(name: string): Promise<SourceCheck> {
  return (await post(`/manage/v1/sources/${encodeURIComponent(name)}/check`, null)).json()
}

export async function removeSource(name: string): Promise<void> {
  await call(`/manage/v1/sources/${encodeURIComponent(name)}`, { method: 'DELETE' })
}

/** What sources offer: all of them, or one. */
export async function search(words: string, source?: string): Promise<SearchReport> {
  const query = new URLSearchParams(source ? { words, source } : { words })
  return (await call(`/manage/v1/search?${query}`)).json()
}

/** What an offer would mean here. */
export async function preview(reference: string): Promise<Preview> {
  return (await post('/manage/v1/preview', { reference })).json()
}

/** Begins to fetch a model. */
export async function pull(request: PullRequest): Promise<Transfer> {
  return (await post('/manage/v1/depot/pull', request)).json()
}

/** Begins to take a file into the depot's own files. */
export async function importFile(request: ImportRequest): Promise<Transfer> {
  return (await post('/manage/v1/depot/import', request)).json()
}

/** Models in a folder of the service's machine. */
export async function scan(folder: string): Promise<FoundModel[]> {
  return (await post('/manage/v1/depot/scan', { folder })).json()
}

/** Begins to read again what is kept. */
export async function verify(models: string[]): Promise<Transfer> {
  return (await post('/manage/v1/depot/verify', { models })).json()
}

export async function usage(): Promise<DepotUsage> {
  return (await call('/manage/v1/usage')).json()
}

export async function rename(variant: string, name: string): Promise<Variant> {
  return (await post(`${variantPath(variant)}/rename`, { name })).json()
}

/** Removes a variant, or tells what that would free. */
export async function remove(variant: string, dryRun: boolean): Promise<Removal> {
  return (await call(`${variantPath(variant)}?dry_run=${dryRun}`, { method: 'DELETE' })).json()
}

export async function cancelTransfer(id: string): Promise<void> {
  await call(`/manage/v1/transfers/${id}`, { method: 'DELETE' })
}

/** Ends a call that is under way; its caller is told. */
export async function cancelCall(id: string): Promise<void> {
  await call(`/manage/v1/calls/${id}`, { method: 'DELETE' })
}

/** Calls that ended, the newest first. */
export async function calls(count: number): Promise<CallRecord[]> {
  return (await call(`/manage/v1/calls?count=${count}`)).json()
}

/** How it all stands now. */
export async function statusNow(): Promise<Status> {
  return (await call('/manage/v1/status')).json()
}

/** Memory, rates and queues over time. */
export async function history(span: History['span']): Promise<History> {
  return (await call(`/manage/v1/history?span=${span}`)).json()
}

/** Tries whether a model is well; it is loaded for that. */
export async function check(model: string): Promise<CheckReport> {
  return (await post('/manage/v1/checks', { model })).json()
}

/** Plans loads together, one after the other. */
export async function plan(models: LoadRequest[]): Promise<PlanReport> {
  return (await post('/manage/v1/plans', { models })).json()
}

export async function load(request: LoadRequest): Promise<Instance> {
  return (await post('/manage/v1/instances', request)).json()
}

/** Retries to load a failed instance. */
export async function retry(id: string): Promise<Instance> {
  return (await post(`/manage/v1/instances/${id}/retry`, {})).json()
}

/** Changes a pool's limit until the service stops. */
export async function setLimit(pool: string, limit: string): Promise<Pool> {
  return (await send('PUT', `/manage/v1/pools/${encodeURIComponent(pool)}`, { limit })).json()
}

export async function unload(id: string): Promise<void> {
  await call(`/manage/v1/instances/${id}`, { method: 'DELETE' })
}

export function openEvents(): EventSource {
  return new EventSource('/manage/v1/events')
}

export interface Question {
  model: string
  messages: { role: string; content: string }[]
  temperature?: number
  max_tokens?: number
  /** Unload the model after the answer. */
  release?: boolean
}

/** Asks, and hands over the raw stream of the answer. */
export async function ask(question: Question, signal: AbortSignal): Promise<ReadableStream<Uint8Array<ArrayBuffer>>> {
  const body = { ...question, stream: true, stream_options: { include_usage: true } }
  const response = await post('/v1/chat/completions', body, signal)
  if (!response.body) throw new Refused({ detail: 'the answer has no body' })
  return response.body
}
