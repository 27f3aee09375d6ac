/** The only place that talks to the service: typed calls, problems as errors, live changes. */
import createClient from 'openapi-fetch'
import type { components, paths } from '../../generated/schema'

export type Schemas = components['schemas']
export type Run = Schemas['Run']
export type RunDetail = Schemas['RunDetail']
export type RunPage = Schemas['RunPage']
export type Goal = Schemas['Goal']
export type Model = Schemas['Model']
export type ModelVersion = Schemas['ModelVersion']
export type Comparison = Schemas['Comparison']
export type Curve = Schemas['Curve']

/** A problem document of the service (RFC 9457), or no answer at all (status 0). */
export class ServiceError extends Error {
  constructor(
    message: string,
    readonly status: number,
    readonly field: string | null = null,
  ) {
    super(message)
  }
}

let csrfToken = ''
export const setCsrfToken = (token: string | null | undefined) => {
  csrfToken = token ?? ''
}

const client = createClient<paths>({ baseUrl: '', credentials: 'same-origin' })
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
    const problem = found.error as { detail?: string; field?: string | null } | undefined
    throw new ServiceError(
      problem?.detail ?? `The service answered ${found.response.status}.`,
      found.response.status,
      problem?.field ?? null,
    )
  }
  return found.data as T
}

export type Change = {
  kind: 'run' | 'journal'
  subject: string
  experiment?: string
  status?: string
  at: string
}

/** Follow a project's changes. The browser reconnects by itself and resumes after the last event. */
export function follow(project: string, tell: (change: Change) => void, connected: (is: boolean) => void) {
  const source = new EventSource(`/api/v1/projects/${encodeURIComponent(project)}/events`)
  source.addEventListener('change', (event) => tell(JSON.parse(event.data) as Change))
  source.onopen = () => connected(true)
  source.onerror = () => connected(false)
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
