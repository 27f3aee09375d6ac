/** The only place that talks to the service: typed calls, problems as errors, live changes. */
import createClient from 'openapi-fetch'
import type { components, paths } from '../../generated/schema'
import { API, BELOW } from './place'

export type Schemas = components['schemas']
export type Run = Schemas['RunRow']
export type RunDetail = Schemas['RunDetail']
export type RunPage = Schemas['RunPage']
export type Goal = Schemas['Goal']
export type Model = Schemas['Model']
export type ModelVersion = Schemas['ModelVersion']
export type Curve = Schemas['Curve']
export type Output = Schemas['Output']
export type OutputLine = Schemas['OutputLine']
export type SeenRun = Schemas['SeenRun']

/** A problem document of the service (RFC 9457), or no answer at all (status 0). */
export class ServiceError extends Error {
  constructor(
    message: string,
    readonly status: number,
    readonly field: string | null = null,
    /** Where in a query reading stopped, from 1. */
    readonly column: number | null = null,
  ) {
    super(message)
  }
}

let csrfToken = ''
export const setCsrfToken = (token: string | null | undefined) => {
  csrfToken = token ?? ''
}

const client = createClient<paths>({ baseUrl: BELOW, credentials: 'same-origin' })
client.use({
  onRequest({ request }) {
    if (!['GET', 'HEAD'].includes(request.method)) request.headers.set('Kinetrum-Csrf', csrfToken)
    return request
  },
})
export const api = client

type Answer<T> = { data?: T; error?: unknown; response: Response }

/** Wait for a call and return its data; throws ServiceError with the sentence that the service wrote. */
export async function answer<T>(call: Promise<Answer<T>>): Promise<T> {
  let found: Answer<T>
  try {
    found = await call
  } catch {
    throw new ServiceError('The service does not answer; trying again.', 0)
  }
  if (!found.response.ok) {
    const problem = found.error as
      { detail?: string; field?: string | null; column?: number | null } | undefined
    throw new ServiceError(
      problem?.detail ?? `The service answered ${found.response.status}.`,
      found.response.status,
      problem?.field ?? null,
      problem?.column ?? null,
    )
  }
  return found.data as T
}

export type Change = {
  kind: 'run' | 'output' | 'resources' | 'journal'
  project: string
  subject: string
  experiment?: string
  status?: string
  act?: string
  at: string
}

export type Followed = {
  change: (change: Change) => void
  /** How long to gather changes before reading anew, in milliseconds. */
  pace: (gatherMs: number) => void
  /** Too long away for the changes to be told one by one. */
  reset: () => void
  connected: (is: boolean) => void
}

/** Follow the changes of a project, or of all one may see. The browser reconnects and resumes by itself. */
export function follow(project: string | null, tell: Followed) {
  const of = project === null ? '' : `/projects/${encodeURIComponent(project)}`
  const source = new EventSource(`${API}${of}/events`)
  source.addEventListener('change', (event) => tell.change(JSON.parse(event.data) as Change))
  source.addEventListener('pace', (event) =>
    tell.pace((JSON.parse(event.data) as { gather_ms: number }).gather_ms),
  )
  source.addEventListener('reset', () => tell.reset())
  source.onopen = () => tell.connected(true)
  source.onerror = () => tell.connected(false)
  return () => source.close()
}

/** A client-made id for acts that must not happen twice: a UUID of version 7. */
export function newId(): string {
  const bytes = crypto.getRandomValues(new Uint8Array(16))
  const now = Date.now()
  for (let at = 0; at < 6; at++) bytes[at] = Math.floor(now / 2 ** (8 * (5 - at))) & 0xff
  bytes[6] = ((bytes[6] ?? 0) & 0x0f) | 0x70
  bytes[8] = ((bytes[8] ?? 0) & 0x3f) | 0x80
  const hex = [...bytes].map((byte) => byte.toString(16).padStart(2, '0')).join('')
  return [hex.slice(0, 8), hex.slice(8, 12), hex.slice(12, 16), hex.slice(16, 20), hex.slice(20)].join('-')
}
