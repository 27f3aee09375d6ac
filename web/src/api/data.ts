/** Files and data: what pages ask for, and what people change. */
import { keepPreviousData, useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { answer, api, newId, ServiceError, type Schemas } from './client'

export type ArtifactVersion = Schemas['ArtifactVersion']
export type VersionDetail = Schemas['ArtifactVersionDetail']
export type Difference = Schemas['Difference']
export type FilePair = Schemas['FilePair']
export type FileEntry = Schemas['FileEntry']
export type Lineage = Schemas['Lineage']
export type LineageNode = Schemas['LineageNode']
export type Finding = FilePair['finding']

export const useVersionsOf = (project: string, artifact: string) =>
  useQuery({
    queryKey: ['project', project, 'artifact', artifact],
    queryFn: () =>
      answer(
        api.GET('/api/v1/projects/{project}/artifacts/{artifact}', {
          params: { path: { project, artifact } },
        }),
      ),
  })

export const useVersion = (project: string, artifact: string, version: string) =>
  useQuery({
    queryKey: ['project', project, 'artifact', artifact, 'version', version],
    queryFn: () =>
      answer(
        api.GET('/api/v1/projects/{project}/artifacts/{artifact}/versions/{version}', {
          params: { path: { project, artifact, version }, query: { with_files: false } },
        }),
      ),
    placeholderData: keepPreviousData,
  })

export const useListing = (
  project: string,
  artifact: string,
  version: string,
  asked: { folder: string; find: string },
) =>
  useQuery({
    queryKey: ['files', project, artifact, version, asked],
    queryFn: () =>
      answer(
        api.GET('/api/v1/projects/{project}/artifacts/{artifact}/versions/{version}/listing', {
          params: { path: { project, artifact, version }, query: { ...asked, limit: 500 } },
        }),
      ),
    placeholderData: keepPreviousData,
  })

export const usePreview = (project: string, artifact: string, version: string, path: string | null) =>
  useQuery({
    queryKey: ['files', project, artifact, version, 'preview', path],
    enabled: path !== null,
    retry: false,
    queryFn: () =>
      answer(
        api.GET('/api/v1/projects/{project}/artifacts/{artifact}/versions/{version}/preview', {
          params: { path: { project, artifact, version }, query: { path: path ?? '' } },
        }),
      ),
  })

export const useDifference = (
  project: string,
  left: string,
  right: string,
  finding: Finding[] | undefined,
  limit: number,
) =>
  useQuery({
    queryKey: ['files', project, 'difference', left, right, finding, limit],
    queryFn: () =>
      answer(
        api.GET('/api/v1/projects/{project}/differences', {
          params: { path: { project }, query: { left, right, limit, ...(finding ? { finding } : {}) } },
        }),
      ),
    placeholderData: keepPreviousData,
  })

export const useFileDifference = (project: string, left: string, right: string) =>
  useQuery({
    queryKey: ['files', project, 'file difference', left, right],
    retry: false,
    queryFn: () =>
      answer(
        api.GET('/api/v1/projects/{project}/differences/file', {
          params: { path: { project }, query: { left, right } },
        }),
      ),
  })

export const useUses = (project: string, digest: string | null) =>
  useQuery({
    queryKey: ['project', project, 'uses', digest],
    enabled: digest !== null,
    retry: false,
    queryFn: () =>
      answer(
        api.GET('/api/v1/projects/{project}/uses', {
          params: { path: { project }, query: { digest: digest ?? '' } },
        }),
      ),
  })

export const useLineage = (
  project: string,
  asked: { of: string; way: 'both' | 'back' | 'forth'; fold_to: number },
) =>
  useQuery({
    queryKey: ['project', project, 'lineage', asked],
    retry: false,
    queryFn: () =>
      answer(
        api.GET('/api/v1/projects/{project}/lineage', {
          params: { path: { project }, query: asked },
        }),
      ),
    placeholderData: keepPreviousData,
  })

export const useStorage = (project: string) =>
  useQuery({
    queryKey: ['project', project, 'storage'],
    queryFn: () => answer(api.GET('/api/v1/projects/{project}/storage', { params: { path: { project } } })),
  })

export const usePurgePreview = (project: string, things: string[] | null, enabled: boolean) =>
  useQuery({
    queryKey: ['project', project, 'purge', things],
    enabled,
    staleTime: 0,
    queryFn: () =>
      answer(
        api.POST('/api/v1/projects/{project}/purges', {
          params: { path: { project } },
          body: { things, only_tell: true },
        }),
      ),
  })

export function usePurge(project: string) {
  const queries = useQueryClient()
  return useMutation({
    mutationFn: (things: string[] | null) =>
      answer(
        api.POST('/api/v1/projects/{project}/purges', {
          params: { path: { project } },
          body: { things, only_tell: false },
        }),
      ),
    onSettled: () => queries.invalidateQueries({ queryKey: ['project', project] }),
  })
}

export function useDescribeArtifact(project: string, artifact: string) {
  const queries = useQueryClient()
  return useMutation({
    mutationFn: (body: { description: string | null; labels: Record<string, string | null> }) =>
      answer(
        api.PATCH('/api/v1/projects/{project}/artifacts/{artifact}', {
          params: { path: { project, artifact } },
          body,
        }),
      ),
    onSettled: () => queries.invalidateQueries({ queryKey: ['project', project] }),
  })
}

export type Chosen = { path: string; file: File }

const SEND_TRIES = 3

/** Send one file; a connection that breaks is tried again. */
async function sendFile(project: string, file: File): Promise<{ sha256: string; size_bytes: number }> {
  for (let tries = 1; ; tries++) {
    try {
      const kept = await answer(
        api.POST('/api/v1/projects/{project}/blobs', {
          params: { path: { project }, header: { 'content-type': 'application/octet-stream' } },
          body: file as unknown as string,
          bodySerializer: (body) => body as unknown as BodyInit,
          headers: { 'Content-Type': 'application/octet-stream' },
        }),
      )
      if (!('sha256' in kept)) throw new ServiceError('The service did not say what it kept.', 500)
      return kept
    } catch (error) {
      const away = error instanceof ServiceError && (error.status === 0 || error.status === 503)
      if (!away || tries >= SEND_TRIES) throw error
      await new Promise((done) => setTimeout(done, 500 * tries))
    }
  }
}

/** Send files, three side by side, and keep them together as a version; `tell` hears how many bytes are there. */
export function useKeepFiles(project: string) {
  const queries = useQueryClient()
  return useMutation({
    mutationFn: async (given: {
      name: string
      kind: string
      files: Chosen[]
      tell: (sent: number) => void
    }) => {
      let sent = 0
      const entries: Schemas['FileEntry'][] = []
      const waiting = [...given.files]
      const worker = async () => {
        for (let next = waiting.shift(); next; next = waiting.shift()) {
          const { path, file } = next
          const kept = await sendFile(project, file)
          entries.push({
            path,
            size: kept.size_bytes,
            sha256: kept.sha256,
            modified: Math.round(file.lastModified * 1000),
          })
          sent += file.size
          given.tell(sent)
        }
      }
      await Promise.all([worker(), worker(), worker()])
      return answer(
        api.POST('/api/v1/projects/{project}/artifacts/{artifact}/versions', {
          params: { path: { project, artifact: given.name } },
          body: { id: newId(), at: Date.now() * 1000, kind: given.kind, files: entries } as never,
        }),
      )
    },
    onSettled: () => queries.invalidateQueries({ queryKey: ['project', project] }),
  })
}

const files = (project: string, artifact: string, version: string | number) =>
  `/api/v1/projects/${project}/artifacts/${artifact}/versions/${version}`

/** Where a stored file is fetched from; with `show` a picture comes with its type. */
export const fileAddress = (
  project: string,
  artifact: string,
  version: string | number,
  path: string,
  show = false,
) =>
  `${files(project, artifact, version)}/files/${path.split('/').map(encodeURIComponent).join('/')}${show ? '?show=true' : ''}`

export const bundleAddress = (project: string, artifact: string, version: string | number, folder = '') =>
  `${files(project, artifact, version)}/bundle?form=zip${folder ? `&folder=${encodeURIComponent(folder)}` : ''}`

export const provAddress = (project: string, of: string) =>
  `/api/v1/projects/${project}/lineage/prov?of=${encodeURIComponent(of)}`

export const crateAddress = (project: string, of: string) =>
  `/api/v1/projects/${project}/archive?of=${encodeURIComponent(of)}`
