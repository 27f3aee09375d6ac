/** Runs compared, why they differ, what moves a value, and columns of many runs for charts. */
import { keepPreviousData, useQuery } from '@tanstack/react-query'
import { answer, api, type Schemas } from './client'
import { keys } from './keys'

export type Comparison = Schemas['Comparison']
export type Outcome = Schemas['ComparedOutcome']
export type OutcomeChange = Schemas['OutcomeChange']
export type GroupCurves = Schemas['GroupCurves']
export type Effects = Schemas['Effects']
export type Drawn = Schemas['Drawn']
export type DrawnColumn = Schemas['DrawnColumn']

/** What people find out about runs stands under their project, so that it stays live. */
const within = (project: string) => ({ path: { project } })

export const useComparison = (project: string, runs: string[], baseline: number, each: boolean) =>
  useQuery({
    queryKey: keys.comparison(project, runs, baseline, each),
    enabled: runs.length >= 2,
    queryFn: () =>
      answer(
        api.GET('/api/v1/projects/{project}/comparison', {
          params: { ...within(project), query: { run: runs, baseline, each } },
        }),
      ),
    placeholderData: keepPreviousData,
  })

/** Of two runs; `on` is a value, without it that of the first goal. */
export const useReasons = (project: string, runs: string[], on: string | null) =>
  useQuery({
    queryKey: keys.comparison(project, runs, 'reasons', on),
    enabled: runs.length === 2,
    retry: false,
    queryFn: () =>
      answer(
        api.GET('/api/v1/projects/{project}/comparison/reasons', {
          params: { ...within(project), query: { run: runs, ...(on ? { on } : {}) } },
        }),
      ),
    placeholderData: keepPreviousData,
  })

export const useJudgedRows = (project: string, runs: string[]) =>
  useQuery({
    queryKey: keys.comparison(project, runs, 'rows'),
    enabled: runs.length === 2,
    queryFn: () =>
      answer(
        api.GET('/api/v1/projects/{project}/comparison/rows', {
          params: { ...within(project), query: { run: runs } },
        }),
      ),
  })

export const useGroupCurves = (project: string, metric: string | undefined, runs: string[], on: boolean) =>
  useQuery({
    queryKey: keys.comparison(project, runs, 'curves', metric),
    enabled: on && metric !== undefined,
    queryFn: () =>
      answer(
        api.GET('/api/v1/projects/{project}/comparison/curves', {
          params: { ...within(project), query: { run: runs, metric: metric ?? '' } },
        }),
      ),
    placeholderData: keepPreviousData,
  })

export const useEffects = (project: string, experiment: string, on: string | undefined, query: string) =>
  useQuery({
    queryKey: keys.effects(project, experiment, on, query),
    enabled: on !== undefined,
    retry: false,
    queryFn: () =>
      answer(
        api.GET('/api/v1/projects/{project}/experiments/{experiment}/effects', {
          params: { path: { project, experiment }, query: { on, query } },
        }),
      ),
    placeholderData: keepPreviousData,
  })

export type AskedColumns = { column: string[]; query: string; sort: string; pareto: string }

export const useDrawn = (project: string, experiment: string, asked: AskedColumns) =>
  useQuery({
    queryKey: keys.columns(project, experiment, asked),
    enabled: asked.column.length > 0,
    queryFn: () =>
      answer(
        api.GET('/api/v1/projects/{project}/experiments/{experiment}/columns', {
          params: { path: { project, experiment }, query: asked },
        }),
      ),
    placeholderData: keepPreviousData,
  })
