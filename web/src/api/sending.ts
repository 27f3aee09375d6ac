/** Files on their way to the service: only what it lacks, side by side, large ones taken up where they broke off. */
import { answer, api, newId, ServiceError, type Schemas } from './client'
import type { Digested } from './digest.worker'

export type Chosen = { path: string; file: File }
export type Telling = (how: { read: number; there: number }) => void
type Sending = { project: string; signal: AbortSignal }

const SIDE_BY_SIDE = 3
const DIGESTS_AT_ONCE = 5_000
const RESUMED_FROM = 8 * 1024 * 1024
const LEAST_PIECE = 64 * 1024
/** What proxies usually take; more than that at once may end without an answer. */
const USUAL_PIECE = 1024 * 1024
const TRIES = 5
/** How much is sent at once: less, once a proxy before the service took no more. */
let piece = 16 * 1024 * 1024

const pause = (ms: number) => new Promise((done) => setTimeout(done, ms))
const tooLarge = (error: unknown) => error instanceof ServiceError && error.status === 413
const unanswered = (error: unknown) => error instanceof ServiceError && error.status === 0
const away = (error: unknown) => error instanceof ServiceError && [0, 502, 503, 504].includes(error.status)

/** Work through items, several side by side; the first failure ends it. */
async function sideBySide<T>(items: readonly T[], act: (item: T) => Promise<void>) {
  const waiting = [...items]
  let failed = false
  const worker = async () => {
    for (let next = waiting.shift(); next !== undefined && !failed; next = waiting.shift()) {
      try {
        await act(next)
      } catch (error) {
        failed = true
        throw error
      }
    }
  }
  await Promise.all(Array.from({ length: SIDE_BY_SIDE }, worker))
}

function digestOf(
  worker: Worker,
  file: File,
  signal: AbortSignal,
  tell: (read: number) => void,
): Promise<string> {
  return new Promise((done, fail) => {
    signal.addEventListener('abort', () => fail(signal.reason as Error))
    worker.onmessage = ({ data }: MessageEvent<Digested>) => {
      if ('read' in data) tell(data.read)
      else if ('sha256' in data) done(data.sha256)
      else fail(new ServiceError(data.error, 0))
    }
    worker.onerror = () => fail(new ServiceError('The browser could not read the file.', 0))
    worker.postMessage(file)
  })
}

async function digests(
  files: readonly Chosen[],
  signal: AbortSignal,
  tell: (read: number) => void,
): Promise<Map<Chosen, string>> {
  const found = new Map<Chosen, string>()
  const worker = new Worker(new URL('./digest.worker.ts', import.meta.url), { type: 'module' })
  try {
    // One after the other: reading and hashing would only get in each other's way.
    for (const chosen of files) {
      signal.throwIfAborted()
      found.set(chosen, await digestOf(worker, chosen.file, signal, tell))
    }
  } finally {
    worker.terminate()
  }
  return found
}

async function lacking(project: string, wanted: readonly string[]): Promise<Set<string>> {
  const missing = new Set<string>()
  for (let at = 0; at < wanted.length; at += DIGESTS_AT_ONCE) {
    const part = await answer(
      api.POST('/api/v1/projects/{project}/blobs/missing', {
        params: { path: { project } },
        body: { sha256: wanted.slice(at, at + DIGESTS_AT_ONCE) },
      }),
    )
    for (const sha256 of part.missing) missing.add(sha256)
  }
  return missing
}

const bytesAsTheyAre = (part: Blob) => ({
  body: part as unknown as string,
  bodySerializer: (body: unknown) => body as BodyInit,
  headers: { 'Content-Type': 'application/octet-stream' },
})

/** Send a file at once; tells whether that was taken, or is too much for a proxy before the service. */
async function sendWhole({ project, signal }: Sending, sha256: string, file: File): Promise<boolean> {
  for (let tries = 1; ; tries++) {
    try {
      await answer(
        api.PUT('/api/v1/projects/{project}/blobs/{sha256}', {
          params: { path: { project, sha256 } },
          signal,
          ...bytesAsTheyAre(file),
        }),
      )
      return true
    } catch (error) {
      signal.throwIfAborted()
      if (tooLarge(error) || (unanswered(error) && file.size > USUAL_PIECE)) return false
      if (!away(error) || tries >= TRIES) throw error
      await pause(300 * 2 ** tries)
    }
  }
}

/** Send from where the service has it, piece by piece; what breaks off is taken up as long as it gets on. */
async function sendInPieces(
  { project, signal }: Sending,
  sha256: string,
  file: File,
  tell: (count: number) => void,
) {
  const path = { project, sha256 }
  const state = () =>
    answer(api.GET('/api/v1/projects/{project}/blobs/{sha256}/upload', { params: { path } }))
  let told = 0
  const toldUpTo = (offset: number) => {
    if (offset > told) {
      tell(offset - told)
      told = offset
    }
  }
  for (let tries = 0, last = -1, length = piece; ;) {
    try {
      let at = await state()
      while (!at.complete) {
        toldUpTo(at.offset)
        tries = at.offset > last ? 0 : tries
        last = at.offset
        length = Math.min(piece, file.size - at.offset)
        at = await answer(
          api.PATCH('/api/v1/projects/{project}/blobs/{sha256}', {
            params: { path, header: { 'upload-offset': at.offset, 'upload-length': file.size } },
            signal,
            ...bytesAsTheyAre(file.slice(at.offset, at.offset + length)),
          }),
        )
      }
      toldUpTo(file.size)
      return
    } catch (error) {
      signal.throwIfAborted()
      if (tooLarge(error) && length > LEAST_PIECE) {
        piece = Math.min(piece, Math.ceil(length / 2))
        continue
      }
      if (unanswered(error) && length > USUAL_PIECE) piece = Math.min(piece, Math.ceil(length / 2))
      // 409: somebody sends the same bytes just now, and may be done soon.
      const again = away(error) || (error instanceof ServiceError && error.status === 409)
      if (!again || ++tries >= TRIES) throw error
      await pause(300 * 2 ** tries)
    }
  }
}

/**
 * Keep files together as a version; `tell` hears how many bytes were read, and how many are at the service.
 * Given up by `signal`, no version is made; what was sent is swept by the service, unless it is sent again.
 */
export async function keepFiles(
  project: string,
  given: { name: string; kind: string; files: readonly Chosen[]; tell: Telling; signal: AbortSignal },
) {
  const { signal } = given
  const how = { read: 0, there: 0 }
  const tellThere = (count: number) => {
    how.there += count
    given.tell({ ...how })
  }
  const known = await digests(given.files, signal, (count) => {
    how.read += count
    given.tell({ ...how })
  })
  const first = new Map<string, File>()
  for (const [{ file }, sha256] of known) {
    // The same content under another name is sent once.
    if (first.has(sha256)) tellThere(file.size)
    else first.set(sha256, file)
  }
  const missing = await lacking(project, [...first.keys()])
  await sideBySide([...first], async ([sha256, file]) => {
    if (!missing.has(sha256)) tellThere(file.size)
    else if (
      file.size < Math.min(RESUMED_FROM, piece) &&
      (await sendWhole({ project, signal }, sha256, file))
    )
      tellThere(file.size)
    else await sendInPieces({ project, signal }, sha256, file, tellThere)
  })
  signal.throwIfAborted()
  const files: Schemas['NewFile'][] = [...known].map(([{ path, file }, sha256]) => ({
    path,
    size: file.size,
    sha256,
    modified: Math.round(file.lastModified * 1000),
  }))
  return answer(
    api.POST('/api/v1/projects/{project}/artifacts/{artifact}/versions', {
      params: { path: { project, artifact: given.name } },
      body: { id: newId(), at: Date.now() * 1000, kind: given.kind, files } as never,
    }),
  )
}
