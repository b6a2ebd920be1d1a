import createClient from 'openapi-fetch'
import type { components, paths } from './api.gen'

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

export const api = createClient<paths>({ baseUrl: '/' })
api.use({
  onRequest({ request }) {
    if (request.method !== 'GET' && csrf) request.headers.set('X-CSRF-Token', csrf)
    return request
  },
})

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
  } catch {
    throw new Refusal(
      problem('unreachable', 'The service does not answer. Is it running? Your page stays as it is; try again.'),
    )
  }
  if (answer.response.ok) return answer.data as T
  const told =
    (answer.error as Problem | undefined) ?? problem('http', `The service answered ${answer.response.status}.`)
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

/** Says what went wrong, for showing. */
export function says(error: unknown): Problem {
  return error instanceof Refusal ? error.problem : problem('console', String(error))
}
