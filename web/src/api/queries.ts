/** What pages ask for, each under a key that live changes can refresh. */
import { keepPreviousData, useQuery } from '@tanstack/react-query'
import { answer, api } from './client'

export const useMe = () =>
  useQuery({
    queryKey: ['me'],
    queryFn: async () => (await answer(api.GET('/api/v1/session'))) ?? null,
    retry: false,
    staleTime: Infinity,
  })

export const useProjects = () =>
  useQuery({ queryKey: ['projects'], queryFn: () => answer(api.GET('/api/v1/projects')) })

export const useExperiments = (project: string) =>
  useQuery({
    queryKey: ['project', project, 'experiments'],
    queryFn: () =>
      answer(api.GET('/api/v1/projects/{project}/experiments', { params: { path: { project } } })),
  })

export const useMembers = (project: string) =>
  useQuery({
    queryKey: ['members', project],
    queryFn: () => answer(api.GET('/api/v1/projects/{project}/members', { params: { path: { project } } })),
  })

export const useArtifacts = (project: string) =>
  useQuery({
    queryKey: ['project', project, 'artifacts'],
    queryFn: () => answer(api.GET('/api/v1/projects/{project}/artifacts', { params: { path: { project } } })),
  })

export const useExperiment = (project: string, experiment: string) =>
  useQuery({
    queryKey: ['project', project, 'experiment', experiment, 'summary'],
    queryFn: () =>
      answer(
        api.GET('/api/v1/projects/{project}/experiments/{experiment}', {
          params: { path: { project, experiment } },
        }),
      ),
  })

export const useRun = (project: string, experiment: string, run: string) =>
  useQuery({
    queryKey: ['project', project, 'run', `${experiment}/${run}`],
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
    queryKey: ['project', project, 'curves', metric, runs, width, steps, against],
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
    queryKey: ['project', project, 'bin'],
    queryFn: () => answer(api.GET('/api/v1/projects/{project}/bin', { params: { path: { project } } })),
  })

export const useModel = (project: string, model: string) =>
  useQuery({
    queryKey: ['project', project, 'model', model],
    queryFn: () =>
      answer(api.GET('/api/v1/projects/{project}/models/{model}', { params: { path: { project, model } } })),
  })

export const useModelVersion = (project: string, model: string, version: string) =>
  useQuery({
    queryKey: ['project', project, 'model', model, 'version', version],
    queryFn: () =>
      answer(
        api.GET('/api/v1/projects/{project}/models/{model}/versions/{version}', {
          params: { path: { project, model, version } },
        }),
      ),
  })

export const useJournal = (project: string, subject: string) =>
  useQuery({
    queryKey: ['project', project, 'journal', subject],
    queryFn: () =>
      answer(
        api.GET('/api/v1/projects/{project}/journal', {
          params: { path: { project }, query: { subject, limit: 100 } },
        }),
      ),
  })
