/** What pages ask for, each under a key that live changes can refresh. */
import { keepPreviousData, useQuery } from '@tanstack/react-query'
import { answer, api } from './client'
import { keys } from './keys'

export const useMe = () =>
  useQuery({
    queryKey: keys.me(),
    queryFn: async () => (await answer(api.GET('/api/v1/session'))) ?? null,
    retry: false,
    staleTime: Infinity,
  })

export const useProjects = () =>
  useQuery({ queryKey: keys.projects(), queryFn: () => answer(api.GET('/api/v1/projects')) })

export const useExperiments = (project: string) =>
  useQuery({
    queryKey: keys.experiments(project),
    queryFn: () =>
      answer(api.GET('/api/v1/projects/{project}/experiments', { params: { path: { project } } })),
  })

export const useMembers = (project: string) =>
  useQuery({
    queryKey: keys.members(project),
    queryFn: () => answer(api.GET('/api/v1/projects/{project}/members', { params: { path: { project } } })),
  })

export const useArtifacts = (project: string) =>
  useQuery({
    queryKey: keys.artifacts(project),
    queryFn: () => answer(api.GET('/api/v1/projects/{project}/artifacts', { params: { path: { project } } })),
  })

export const useExperiment = (project: string, experiment: string) =>
  useQuery({
    queryKey: keys.summary(project, experiment),
    queryFn: () =>
      answer(
        api.GET('/api/v1/projects/{project}/experiments/{experiment}', {
          params: { path: { project, experiment } },
        }),
      ),
  })

export const useRun = (project: string, experiment: string, run: string) =>
  useQuery({
    queryKey: keys.run(project, `${experiment}/${run}`),
    queryFn: () =>
      answer(
        api.GET('/api/v1/projects/{project}/experiments/{experiment}/runs/{run}', {
          params: { path: { project, experiment, run } },
        }),
      ),
  })

export type CurvesAsked = { width: number; steps?: [number, number] | null; against?: string | null }

export const useCurves = (
  project: string,
  metric: string | undefined,
  runs: string[],
  { width, steps, against }: CurvesAsked,
  enabled = true,
) =>
  useQuery({
    queryKey: keys.curves(project, runs, metric, width, steps, against),
    enabled: enabled && !!metric && runs.length > 0,
    queryFn: () =>
      answer(
        api.GET('/api/v1/projects/{project}/curves', {
          params: {
            path: { project },
            query: {
              metric: metric ?? '',
              run: runs,
              width,
              ...(steps ? { first_step: steps[0], last_step: steps[1] } : {}),
              ...(against ? { against } : {}),
            },
          },
        }),
      ),
    placeholderData: keepPreviousData,
  })

export const useBin = (project: string) =>
  useQuery({
    queryKey: keys.bin(project),
    queryFn: () => answer(api.GET('/api/v1/projects/{project}/bin', { params: { path: { project } } })),
  })

export const useModel = (project: string, model: string) =>
  useQuery({
    queryKey: keys.model(project, model),
    queryFn: () =>
      answer(api.GET('/api/v1/projects/{project}/models/{model}', { params: { path: { project, model } } })),
  })

export const useModelVersion = (project: string, model: string, version: string) =>
  useQuery({
    queryKey: keys.modelVersion(project, model, version),
    queryFn: () =>
      answer(
        api.GET('/api/v1/projects/{project}/models/{model}/versions/{version}', {
          params: { path: { project, model, version } },
        }),
      ),
  })

export const useJournal = (project: string, subject: string) =>
  useQuery({
    queryKey: keys.journal(project, subject),
    queryFn: () =>
      answer(
        api.GET('/api/v1/projects/{project}/journal', {
          params: { path: { project }, query: { subject, limit: 100 } },
        }),
      ),
  })
