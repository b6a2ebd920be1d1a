import createClient from 'openapi-fetch'
import type { components, paths } from './api.gen'
import { place } from './place.svelte'

export type Schemas = components['schemas']
export type Problem = Schemas['WireProblem']
export type Standpoint = Schemas['WireStandpoint']
export type Node = Schemas['WireNode']
export type ObjectPage = Schemas['WireObject']
export type Bands = Schemas['WireBands']
export type Grant = Schemas['WireGrant']
export type View = Schemas['WireView']
export type Subject = Schemas['WireSubject']
export type SubjectPage = Schemas['WireSubjectPage']
export type Access = Schemas['WireAccess']
export type Policy = Schemas['WirePolicy']
export type Preview = Schemas['WirePreview']
export type Changed = Schemas['WireChanged']
export type Session = Schemas['WireSession']
export type AuditRecord = Schemas['WireRecord']
export type Fix = Schemas['WireFix']
export type Result = Schemas['WireResult']

let csrf = ''
let onSignedOut = () => {}

/** Sets what every change must carry, and what to do when the session ends. */
export function setSession(token: string, signedOut: () => void) {
  csrf = token
  onSignedOut = signedOut
}

// The endpoints that can be about another state than the current: as the vocabulary has them. Until
// they are known, a page that looks at another state asks nothing, lest it show the current one.
let known: (endpoints: Set<string>) => void
let unknown: (reason: unknown) => void
const looking = new Promise<Set<string>>((resolve, reject) => {
  known = resolve
  unknown = reject
})
looking.catch(() => {})
const always = ['/api/v1/session', '/api/v1/vocabulary']

/** Sets the endpoints that can look through a draft or at a moment, or go into a draft. */
export function setMomentous(endpoints: string[]) {
  known(new Set(endpoints))
}

/** Says that they cannot be had. */
export function noMomentous(reason: unknown) {
  unknown(reason)
}

export const api = createClient<paths>({ baseUrl: '/' })
api.use({
  async onRequest({ request, schemaPath }) {
    const { draft, at } = place.moment
    let next = request
    if ((draft || at) && !always.includes(schemaPath)) {
      const endpoints = await looking
      if (endpoints.has(`${request.method} ${schemaPath.replace('/api/v1', '')}`))
        next = await momentous(request, draft, at)
    }
    if (next.method !== 'GET' && csrf) next.headers.set('X-CSRF-Token', csrf)
    return next
  },
})

/** The same request, about another state. */
async function momentous(request: Request, draft?: string, at?: string): Promise<Request> {
  const url = new URL(request.url)
  if (draft) url.searchParams.set('draft', draft)
  if (at) url.searchParams.set('at', at)
  const { method, headers, signal } = request
  return new Request(url, { method, headers, signal, body: (await request.text()) || undefined })
}

/** A refusal or failure by the service, with all that it says. */
export class Refusal extends Error {
  constructor(readonly problem: Problem) {
    super(problem.detail)
  }
}

/** Returns what a call answers, or throws the Refusal that it got. */
export async function get<T>(call: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  let answer
  try {
    answer = await call
  } catch (error) {
    if (error instanceof DOMException && error.name === 'AbortError') throw error
    const detail =
      error instanceof TypeError
        ? 'The service does not answer. Is it running? Your page stays as it is; try again.'
        : `The answer cannot be read: ${error instanceof Error ? error.message : String(error)}`
    throw new Refusal(problem('unreachable', detail))
  }
  if (answer.response.ok) return answer.data as T
  // What a proxy answers in the place of the service is a page, and no problem of its own.
  const told = isProblem(answer.error)
    ? answer.error
    : problem('http', `The service, or a proxy before it, answered ${answer.response.status}. Try again.`)
  if (told.code === 'not_signed_in' || told.code === 'session_expired' || told.code === 'disabled') onSignedOut()
  throw new Refusal(told)
}

/** Finds sources, schemas and tables whose path has a text. */
export async function objectsNamed(text: string): Promise<Schemas['WireFound'][]> {
  const found = await get(api.GET('/api/v1/search', { params: { query: { text } } }))
  return found.items.filter((f) => ['source', 'schema', 'table', 'view'].includes(f.kind))
}

function problem(code: string, detail: string): Problem {
  return { type: 'about:blank', title: 'Not answered', status: 0, code, detail }
}

function isProblem(error: unknown): error is Problem {
  return typeof error === 'object' && error !== null && 'detail' in error && 'code' in error
}

/** Says what went wrong, for showing. */
export function says(error: unknown): Problem {
  if (error instanceof Refusal) return error.problem
  if (isProblem(error)) return error
  return problem('console', error instanceof Error ? error.message : String(error))
}
