/** Files and data: what pages ask for, and what people change. */
import { keepPreviousData, useQuery } from '@tanstack/react-query'
import { answer, api, type Schemas } from './client'
import { keepFiles } from './sending'
import { useProjectAct } from './act'
import { keys } from './keys'
import { API } from './place'

export type { Chosen } from './sending'

export type Artifact = Schemas['Artifact']
export type ArtifactVersion = Schemas['ArtifactVersion']
export type VersionDetail = Schemas['ArtifactVersionDetail']
export type Difference = Schemas['Difference']
export type FilePair = Schemas['FilePair']
export type FileEntry = Schemas['FileEntry']
export type Lineage = Schemas['Lineage']
export type LineageNode = Schemas['LineageNode']
export type Finding = FilePair['finding']

export const useVersionsOf = (project: string, artifact: string, enabled = true) =>
  useQuery({
    queryKey: keys.artifact(project, artifact),
    enabled,
    queryFn: () =>
      answer(
        api.GET('/api/v1/projects/{project}/artifacts/{artifact}', {
          params: { path: { project, artifact } },
        }),
      ),
  })

export const useVersion = (project: string, artifact: string, version: string) =>
  useQuery({
    queryKey: keys.version(project, artifact, version),
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
    queryKey: keys.files(project, artifact, version, asked),
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
    queryKey: keys.files(project, artifact, version, 'preview', path),
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
    queryKey: keys.files(project, 'difference', left, right, finding, limit),
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
    queryKey: keys.files(project, 'file difference', left, right),
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
    queryKey: keys.uses(project, digest),
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
    queryKey: keys.lineage(project, asked),
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
    queryKey: keys.storage(project),
    queryFn: () => answer(api.GET('/api/v1/projects/{project}/storage', { params: { path: { project } } })),
  })

export const usePurgePreview = (project: string, things: string[] | null, enabled: boolean) =>
  useQuery({
    queryKey: keys.purge(project, things),
    enabled,
    staleTime: 0,
    queryFn: () =>
      answer(
        api.POST('/api/v1/projects/{project}/purges', {
          params: { path: { project } },
          body: { things, only_tell: true, keep_files: false },
        }),
      ),
  })

export const usePurge = (project: string) =>
  useProjectAct(project, (things: string[] | null) =>
    answer(
      api.POST('/api/v1/projects/{project}/purges', {
        params: { path: { project } },
        body: { things, only_tell: false, keep_files: false },
      }),
    ),
  )

export const useDescribeArtifact = (project: string, artifact: string) =>
  useProjectAct(project, (body: { description: string | null; labels: Record<string, string | null> }) =>
    answer(
      api.PATCH('/api/v1/projects/{project}/artifacts/{artifact}', {
        params: { path: { project, artifact } },
        body,
      }),
    ),
  )

/** Send files and keep them together as a version. */
export const useKeepFiles = (project: string) =>
  useProjectAct(project, (given: Parameters<typeof keepFiles>[1]) => keepFiles(project, given))

const files = (project: string, artifact: string, version: string | number) =>
  `${API}/projects/${project}/artifacts/${artifact}/versions/${version}`

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
  `${API}/projects/${project}/lineage/prov?of=${encodeURIComponent(of)}`

export const crateAddress = (project: string, of: string) =>
  `${API}/projects/${project}/archive?of=${encodeURIComponent(of)}`
