/** What people change, and what has to be read anew afterwards. */
import { useMutation, useQueryClient } from '@tanstack/react-query'
import { answer, api, newId, setCsrfToken } from './client'

export function useSignIn() {
  const queries = useQueryClient()
  return useMutation({
    mutationFn: (body: { name: string; password: string }) => answer(api.POST('/api/v1/session', { body })),
    onSuccess: (me) => {
      setCsrfToken(me.csrf_token)
      queries.setQueryData(['me'], me)
    },
  })
}

export function useSignOut() {
  const queries = useQueryClient()
  return useMutation({
    mutationFn: () => answer(api.DELETE('/api/v1/session')),
    onSettled: () => {
      queries.clear()
      window.location.assign('/')
    },
  })
}

function useRegistryAct<T>(project: string, act: (given: T) => Promise<unknown>) {
  const queries = useQueryClient()
  return useMutation({
    mutationFn: act,
    onSettled: () => queries.invalidateQueries({ queryKey: ['project', project] }),
  })
}

export const useVerdict = (project: string, model: string, version: number) =>
  useRegistryAct(project, (body: { verdict: 'approve' | 'reject' | null; comment: string }) =>
    answer(
      api.PUT('/api/v1/projects/{project}/models/{model}/versions/{version}/verdict', {
        params: { path: { project, model, version } },
        body,
      }),
    ),
  )

export type Placing = { stage: string; expect: number | null; comment: string }

export const usePromote = (project: string, model: string) =>
  useRegistryAct(project, ({ stage, ...body }: Placing & { version: number }) =>
    answer(
      api.POST('/api/v1/projects/{project}/models/{model}/stages/{stage}/promotions', {
        params: { path: { project, model, stage } },
        body: { id: newId(), ...body },
      }),
    ),
  )

export const useRollBack = (project: string, model: string) =>
  useRegistryAct(project, ({ stage, ...body }: Placing) =>
    answer(
      api.POST('/api/v1/projects/{project}/models/{model}/stages/{stage}/rollbacks', {
        params: { path: { project, model, stage } },
        body: { id: newId(), ...body },
      }),
    ),
  )

export const useDemote = (project: string, model: string) =>
  useRegistryAct(project, ({ stage, ...body }: Placing) =>
    answer(
      api.POST('/api/v1/projects/{project}/models/{model}/stages/{stage}/demotions', {
        params: { path: { project, model, stage } },
        body: { id: newId(), ...body },
      }),
    ),
  )

export const useRegister = (project: string) =>
  useRegistryAct(project, (given: { model: string; artifact: string; run: string; comment: string }) =>
    answer(
      api.POST('/api/v1/projects/{project}/models/{model}/versions', {
        params: { path: { project, model: given.model } },
        body: { id: newId(), artifact: given.artifact, run: given.run, comment: given.comment },
      }),
    ),
  )
