/** What people change, and what has to be read anew afterwards. */
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { answer, api, newId, setCsrfToken } from './client'
import type { Aggregate } from './aggregates'
import { useProjectAct } from './act'
import { keys } from './keys'
import { BELOW } from './place'

export function useSignIn() {
  const queries = useQueryClient()
  return useMutation({
    mutationFn: (body: { name: string; password: string }) => answer(api.POST('/api/v1/session', { body })),
    onSuccess: (me) => {
      setCsrfToken(me.csrf_token)
      queries.setQueryData(keys.me(), me)
    },
  })
}

export function useSignOut() {
  const queries = useQueryClient()
  return useMutation({
    mutationFn: () => answer(api.DELETE('/api/v1/session')),
    onSettled: () => {
      queries.clear()
      window.location.assign(`${BELOW}/`)
    },
  })
}

export const useVerdict = (project: string, model: string, version: number) =>
  useProjectAct(project, (body: { verdict: 'approve' | 'reject' | null; comment: string }) =>
    answer(
      api.PUT('/api/v1/projects/{project}/models/{model}/versions/{version}/verdict', {
        params: { path: { project, model, version } },
        body,
      }),
    ),
  )

export type Placing = { stage: string; expect: number | null; comment: string }

export const usePromote = (project: string, model: string) =>
  useProjectAct(project, ({ stage, ...body }: Placing & { version: number; override?: string }) =>
    answer(
      api.POST('/api/v1/projects/{project}/models/{model}/stages/{stage}/promotions', {
        params: { path: { project, model, stage } },
        body: { id: newId(), ...body },
      }),
    ),
  )

export const useRollBack = (project: string, model: string) =>
  useProjectAct(project, ({ stage, ...body }: Placing) =>
    answer(
      api.POST('/api/v1/projects/{project}/models/{model}/stages/{stage}/rollbacks', {
        params: { path: { project, model, stage } },
        body: { id: newId(), ...body },
      }),
    ),
  )

export const useDemote = (project: string, model: string) =>
  useProjectAct(project, ({ stage, ...body }: Placing) =>
    answer(
      api.POST('/api/v1/projects/{project}/models/{model}/stages/{stage}/demotions', {
        params: { path: { project, model, stage } },
        body: { id: newId(), ...body },
      }),
    ),
  )

type Many = { runs: string[] }
type Things = { things: string[] }

export const useLabel = (project: string) =>
  useProjectAct(project, (body: Many & { labels: Record<string, string | null> }) =>
    answer(api.POST('/api/v1/projects/{project}/labels', { params: { path: { project } }, body })),
  )

export const useNote = (project: string) =>
  useProjectAct(project, (body: Things & { text: string }) =>
    answer(
      api.POST('/api/v1/projects/{project}/notes', {
        params: { path: { project } },
        body: { id: newId(), ...body },
      }),
    ),
  )

/** Notes on a thing; those on a run are read anew with the run. */
export const useNotes = (project: string, of: string) =>
  useQuery({
    queryKey: keys.notes(project, of),
    queryFn: () =>
      answer(api.GET('/api/v1/projects/{project}/notes', { params: { path: { project }, query: { of } } })),
  })

export const useRemoveNote = (project: string, of: string) =>
  useProjectAct(project, (note: string) =>
    answer(
      api.DELETE('/api/v1/projects/{project}/notes/{note}', {
        params: { path: { project, note }, query: { of } },
      }),
    ),
  )

export const useBinThings = (project: string) =>
  useProjectAct(project, (body: Things & { children: boolean }) =>
    answer(
      api.POST('/api/v1/projects/{project}/bin', {
        params: { path: { project } },
        body,
      }),
    ),
  )

export const useRestoreThings = (project: string) =>
  useProjectAct(project, (body: Things) =>
    answer(
      api.POST('/api/v1/projects/{project}/bin/restored', {
        params: { path: { project } },
        body: { ...body, children: false },
      }),
    ),
  )

type OneRun = { project: string; experiment: string; number: number }

export const useRename = ({ project, experiment, number }: OneRun) =>
  useProjectAct(project, (name: string | null) =>
    answer(
      api.PUT('/api/v1/projects/{project}/experiments/{experiment}/runs/{run}/name', {
        params: { path: { project, experiment, run: String(number) } },
        body: { name },
      }),
    ),
  )

export const useCorrect = ({ project, experiment, number }: OneRun) =>
  useProjectAct(project, (body: { params: Record<string, never>; comment: string }) =>
    answer(
      api.POST('/api/v1/projects/{project}/experiments/{experiment}/runs/{run}/corrections', {
        params: { path: { project, experiment, run: String(number) } },
        body,
      }),
    ),
  )

export type GoalAsked = {
  key: string
  direction: 'higher' | 'lower' | null
  unit: string | null
  bound: number | null
  aggregate: Aggregate | null
}

export const useSetGoal = ({ project, experiment }: { project: string; experiment: string }) =>
  useProjectAct(project, ({ key, direction, ...rest }: GoalAsked) => {
    const params = { path: { project, experiment }, query: { key } }
    return direction === null
      ? answer(api.DELETE('/api/v1/projects/{project}/experiments/{experiment}/goal', { params }))
      : answer(
          api.PUT('/api/v1/projects/{project}/experiments/{experiment}/goal', {
            params,
            body: { direction, ...rest },
          }),
        )
  })

type Registered = { artifact: string; run?: string; step?: number; origin?: string; comment: string }

export const useRegister = (project: string) =>
  useProjectAct(project, (given: { model: string; body: Registered }) =>
    answer(
      api.POST('/api/v1/projects/{project}/models/{model}/versions', {
        params: { path: { project, model: given.model } },
        body: { id: newId(), labels: {}, values: {}, ...given.body },
      }),
    ),
  )
