/** Results to be seen: plots, images, sounds, videos, texts, tables, and their rows. */
import { keepPreviousData, useQuery } from '@tanstack/react-query'
import { answer, api, type Schemas } from './client'
import { useProjectAct } from './act'
import { keys } from './keys'
import { API } from './place'

export type KeptName = Schemas['KeptName']
export type KeptStep = Schemas['KeptStep']
export type Plots = Schemas['Plots']
export type KeptPlot = Schemas['KeptPlot']
export type PlotView = Schemas['PlotView']
export type ShownItem = Schemas['ShownItem']
export type ShownVersion = Schemas['ShownVersion']
export type Box = Schemas['Box']
export const useKept = (project: string, runs: string[]) =>
  useQuery({
    queryKey: keys.kept(project, runs),
    enabled: runs.length > 0,
    queryFn: () =>
      answer(
        api.GET('/api/v1/projects/{project}/kept', {
          params: { path: { project }, query: { run: runs } },
        }),
      ),
    placeholderData: keepPreviousData,
  })

const askPlots = (
  project: string,
  asked: { run: string[]; name: string; step: number | null; view: Partial<PlotView>; columns: boolean },
) =>
  answer(
    api.GET('/api/v1/projects/{project}/plots', {
      params: {
        path: { project },
        query: {
          run: asked.run,
          name: asked.name,
          columns: asked.columns,
          ...(asked.step === null ? {} : { step: asked.step }),
          ...(Object.keys(asked.view).length ? { view: JSON.stringify(asked.view) } : {}),
        },
      },
    }),
  )

export const usePlots = (
  project: string,
  run: string[],
  name: string,
  step: number | null,
  view: Partial<PlotView>,
) =>
  useQuery({
    queryKey: keys.plots(project, run, name, step, view),
    enabled: run.length > 0,
    retry: false,
    queryFn: () => askPlots(project, { run, name, step, view, columns: false }),
    placeholderData: keepPreviousData,
  })

/** Every column of plots, for taking them along. */
export const readColumns = (project: string, run: string[], name: string, step: number | null) =>
  askPlots(project, { run, name, step, view: {}, columns: true })

export const useDeclareView = (project: string, experiment: string, run: string) =>
  useProjectAct(project, (body: { name: string; view: Partial<PlotView> }) =>
    answer(
      api.PATCH('/api/v1/projects/{project}/experiments/{experiment}/runs/{run}/plots', {
        params: { path: { project, experiment, run } },
        body,
      }),
    ),
  )

/** What a version shows; it never changes. */
export const useItems = (project: string, artifact: string, version: number | null) =>
  useQuery({
    queryKey: keys.files(project, artifact, version, 'items'),
    enabled: version !== null,
    retry: false,
    queryFn: () =>
      answer(
        api.GET('/api/v1/projects/{project}/artifacts/{artifact}/versions/{version}/items', {
          params: { path: { project, artifact, version: String(version) } },
        }),
      ),
    placeholderData: keepPreviousData,
  })

export type RowsAsked = {
  where: string[]
  find: string
  sort: string
  wrong: boolean
  offset: number
  limit: number
}

export const useRows = (project: string, of: string, asked: RowsAsked, enabled: boolean) =>
  useQuery({
    queryKey: keys.files(project, 'rows', of, asked),
    enabled,
    retry: false,
    queryFn: () =>
      answer(
        api.GET('/api/v1/projects/{project}/rows', {
          params: { path: { project }, query: { of, ...asked } },
        }),
      ),
    placeholderData: keepPreviousData,
  })

export const useJoinedRows = (
  project: string,
  left: string,
  right: string,
  asked: Omit<RowsAsked, 'wrong'> & { outcome: string[]; key: string | null },
  enabled: boolean,
) =>
  useQuery({
    queryKey: keys.files(project, 'joined rows', left, right, asked),
    enabled,
    retry: false,
    queryFn: () => {
      const { outcome, key, ...rest } = asked
      return answer(
        api.GET('/api/v1/projects/{project}/rows/joined', {
          params: {
            path: { project },
            query: { left, right, ...rest, outcome: outcome as never, ...(key ? { key } : {}) },
          },
        }),
      )
    },
    placeholderData: keepPreviousData,
  })

export const thumbnailAddress = (project: string, artifact: string, version: number, path: string) =>
  `${API}/projects/${project}/artifacts/${artifact}/versions/${version}/thumbnail?path=${encodeURIComponent(path)}`
