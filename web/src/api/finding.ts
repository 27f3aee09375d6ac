/** What the tables of runs ask for: pages, groups, facets, offers, views, links, what the palette finds. */
import { keepPreviousData, queryOptions, useQuery } from '@tanstack/react-query'
import { answer, api, type Schemas } from './client'
import { useProjectAct } from './act'
import { keys } from './keys'

export type Asked = {
  query: string
  sort: string
  column: string[]
  fold: boolean
  key: string[]
  pareto: string
}
export type GroupPage = Schemas['GroupPage']
export type RunGroup = Schemas['RunGroup']
export type GroupCell = Schemas['GroupCell']
export type ChosenColumn = Schemas['ChosenColumn']
export type View = Schemas['SavedView']
export type Offer = Schemas['Offer']
export type Found = Schemas['PaletteMatch']

export const PAGE = 100

/** One page of a table of runs, from a row on. Keys begin as those of the experiment do, so that they stay live. */
export const runsPage = (project: string, experiment: string, asked: Asked, offset: number) =>
  queryOptions({
    queryKey: keys.runs(project, experiment, asked, offset),
    queryFn: () =>
      answer(
        api.GET('/api/v1/projects/{project}/experiments/{experiment}/runs', {
          params: { path: { project, experiment }, query: { ...asked, offset, limit: PAGE } },
        }),
      ),
  })

export const useFirstPage = (project: string, experiment: string, asked: Asked) =>
  useQuery({ ...runsPage(project, experiment, asked, 0), placeholderData: keepPreviousData })

export const groupsPage = (project: string, experiment: string, by: string, asked: Asked, offset: number) =>
  queryOptions({
    queryKey: keys.groups(project, experiment, by, asked, offset),
    queryFn: () => {
      const { query, sort, column, pareto } = asked
      return answer(
        api.GET('/api/v1/projects/{project}/experiments/{experiment}/groups', {
          params: {
            path: { project, experiment },
            query: { by, query, sort, column, pareto, offset, limit: PAGE },
          },
        }),
      )
    },
  })

/** The runs that stand under a line that was opened: of a group, or of a parent. */
export const innerRuns = (
  project: string,
  experiment: string,
  query: string,
  sort: string,
  column: string[],
) =>
  queryOptions({
    queryKey: keys.groupRuns(project, experiment, query, sort, column),
    queryFn: () =>
      answer(
        api.GET('/api/v1/projects/{project}/experiments/{experiment}/runs', {
          params: { path: { project, experiment }, query: { query, sort, column, limit: PAGE } },
        }),
      ),
  })

export const useFacets = (project: string, experiment: string, enabled: boolean) =>
  useQuery({
    queryKey: keys.facets(project, experiment),
    enabled,
    queryFn: () =>
      answer(
        api.GET('/api/v1/projects/{project}/experiments/{experiment}/facets', {
          params: { path: { project, experiment } },
        }),
      ),
  })

export const useFacet = (project: string, experiment: string, name: string | null, query: string) =>
  useQuery({
    queryKey: keys.facet(project, experiment, name, query),
    enabled: name !== null,
    queryFn: () =>
      answer(
        api.GET('/api/v1/projects/{project}/experiments/{experiment}/facet', {
          params: { path: { project, experiment }, query: { name: name ?? '', query } },
        }),
      ),
    placeholderData: keepPreviousData,
  })

export const useOffers = (project: string, experiment: string, text: string, enabled: boolean) =>
  useQuery({
    queryKey: keys.offers(project, experiment, text),
    enabled,
    staleTime: 10_000,
    queryFn: () =>
      answer(
        api.GET('/api/v1/projects/{project}/experiments/{experiment}/offers', {
          params: { path: { project, experiment }, query: { text } },
        }),
      ),
    placeholderData: keepPreviousData,
  })

export const useViews = (project: string, experiment: string) =>
  useQuery({
    queryKey: keys.viewsOf(project, experiment),
    queryFn: () =>
      answer(
        api.GET('/api/v1/projects/{project}/views', { params: { path: { project }, query: { experiment } } }),
      ),
  })

function useViewAct<T, R>(project: string, act: (asked: T) => Promise<R>) {
  return useProjectAct(project, act, keys.views(project))
}

export const useSaveView = (project: string) =>
  useViewAct(project, ({ id, ...body }: { id: string } & Schemas['NewSavedView']) =>
    answer(
      api.PUT('/api/v1/projects/{project}/views/{view}', { params: { path: { project, view: id } }, body }),
    ),
  )

export const useRemoveView = (project: string) =>
  useViewAct(project, (id: string) =>
    answer(
      api.DELETE('/api/v1/projects/{project}/views/{view}', { params: { path: { project, view: id } } }),
    ),
  )

export const useLinks = (project: string, enabled: boolean) =>
  useQuery({
    queryKey: keys.links(project),
    enabled,
    queryFn: () => answer(api.GET('/api/v1/projects/{project}/links', { params: { path: { project } } })),
  })

export const useMakeLink = (project: string) =>
  useViewAct(project, (body: Schemas['NewLink']) =>
    answer(api.POST('/api/v1/projects/{project}/links', { params: { path: { project } }, body })),
  )

export const useRevokeLink = (project: string) =>
  useViewAct(project, (link: number) =>
    answer(api.DELETE('/api/v1/projects/{project}/links/{link}', { params: { path: { project, link } } })),
  )

export const useEmbedding = (project: string) =>
  useQuery({
    queryKey: keys.embedding(project),
    queryFn: () => answer(api.GET('/api/v1/projects/{project}/embedding', { params: { path: { project } } })),
  })

export const useSetEmbedding = (project: string) =>
  useViewAct(project, (origins: string[]) =>
    answer(
      api.PUT('/api/v1/projects/{project}/embedding', {
        params: { path: { project } },
        body: { origins },
      }),
    ),
  )

export const useFind = (text: string, project: string | undefined) =>
  useQuery({
    queryKey: keys.found(text, project),
    enabled: text.trim().length > 0,
    staleTime: 5_000,
    queryFn: () => answer(api.GET('/api/v1/find', { params: { query: { text, project } } })),
    placeholderData: keepPreviousData,
  })

export const linkPage = (secret: string, offset: number) =>
  queryOptions({
    queryKey: keys.link(secret, offset),
    retry: false,
    queryFn: () =>
      answer(api.GET('/api/v1/links/{secret}', { params: { path: { secret }, query: { offset } } })),
  })

export const useLinkCurves = (secret: string, enabled: boolean) =>
  useQuery({
    queryKey: keys.link(secret, 'curves'),
    enabled,
    queryFn: () => answer(api.GET('/api/v1/links/{secret}/curves', { params: { path: { secret } } })),
  })

/** Name the parameters in which replicates of an experiment differ; what is grouped by them is read anew. */
export const useSetSeeds = (project: string, experiment: string) =>
  useProjectAct(project, (seeds: string[]) =>
    answer(
      api.PUT('/api/v1/projects/{project}/experiments/{experiment}/seeds', {
        params: { path: { project, experiment } },
        body: { seeds },
      }),
    ),
  )

/** Give an experiment another name; the earlier one goes on leading to it. */
export const useRenameExperiment = (project: string, experiment: string) =>
  useProjectAct(project, (name: string) =>
    answer(
      api.PUT('/api/v1/projects/{project}/experiments/{experiment}/name', {
        params: { path: { project, experiment } },
        body: { name },
      }),
    ),
  )

export const useDescribe = (project: string, experiment: string | null) =>
  useProjectAct(
    project,
    async (body: Schemas['ExperimentDescription']) => {
      if (experiment === null)
        await answer(api.PATCH('/api/v1/projects/{project}', { params: { path: { project } }, body }))
      else
        await answer(
          api.PATCH('/api/v1/projects/{project}/experiments/{experiment}', {
            params: { path: { project, experiment } },
            body,
          }),
        )
    },
    keys.projects(),
  )
