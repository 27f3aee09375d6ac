/** Models, their rules, and versions side by side. */
import { keepPreviousData, useMutation, useQuery } from '@tanstack/react-query'
import { answer, api, newId, type Schemas } from './client'
import { useProjectAct } from './act'
import { keys } from './keys'

export type GateCheck = Schemas['GateCheck']
export type ReviewData = Schemas['VersionReview']
export type Glance = Schemas['ModelAtAGlance']
export type NewStage = Schemas['NewStage']

export type ModelState = 'pending' | 'warning' | 'unplaced'

export const useModels = (project: string, find = '', state: ModelState | null = null, everywhere = false) =>
  useQuery({
    queryKey: keys.models(project, find, state, everywhere),
    queryFn: () => {
      const query = { find, ...(state ? { state } : {}), limit: 200 }
      return everywhere
        ? answer(api.GET('/api/v1/models', { params: { query } }))
        : answer(api.GET('/api/v1/projects/{project}/models', { params: { path: { project }, query } }))
    },
    placeholderData: keepPreviousData,
  })

export const useReview = (
  project: string,
  model: string,
  version: string,
  stage: string | null,
  against: string | null,
) =>
  useQuery({
    queryKey: keys.review(project, model, version, stage, against),
    queryFn: () =>
      answer(
        api.GET('/api/v1/projects/{project}/models/{model}/versions/{version}/review', {
          params: {
            path: { project, model, version },
            query: against ? { against } : stage ? { stage } : {},
          },
        }),
      ),
    placeholderData: keepPreviousData,
  })

export const useFetches = (project: string, model: string) =>
  useQuery({
    queryKey: keys.fetches(project, model),
    queryFn: () =>
      answer(
        api.GET('/api/v1/projects/{project}/models/{model}/fetches', {
          params: { path: { project, model } },
        }),
      ),
  })

export const useWriteCard = (project: string, model: string) =>
  useProjectAct(project, (body: { card: string; expect: number }) =>
    answer(
      api.PUT('/api/v1/projects/{project}/models/{model}/card', {
        params: { path: { project, model } },
        body,
      }),
    ),
  )

export type Description = {
  purpose?: string
  owner?: string
  labels?: Record<string, string | null>
  image?: string
}

export const useDescribeModel = (project: string, model: string) =>
  useProjectAct(project, (body: Description) =>
    answer(
      api.PATCH('/api/v1/projects/{project}/models/{model}', {
        params: { path: { project, model } },
        body: { labels: {}, ...body },
      }),
    ),
  )

/** Give a model another name; the earlier one goes on leading to it. */
export const useRenameModel = (project: string, model: string) =>
  useProjectAct(project, (name: string) =>
    answer(
      api.PUT('/api/v1/projects/{project}/models/{model}/name', {
        params: { path: { project, model } },
        body: { name },
      }),
    ),
  )

export type Rules = {
  approvals_needed?: number
  second_pair?: boolean
  card_sections?: string[]
  renewed_approvals?: boolean
  evidence?: Record<string, { people: string[]; experiment: string | null }>
  confirmed?: boolean
}

export const useRuleModel = (project: string, model: string) =>
  useProjectAct(project, (body: Rules) =>
    answer(
      api.PUT('/api/v1/projects/{project}/models/{model}/rules', {
        params: { path: { project, model } },
        body: { confirmed: false, ...body },
      }),
    ),
  )

/** The versions whose review a change of rules would turn, asked before it is made. */
export const useRulesPreview = (project: string, model: string) =>
  useMutation({
    mutationFn: (body: Rules) =>
      answer(
        api.POST('/api/v1/projects/{project}/models/{model}/rules/preview', {
          params: { path: { project, model } },
          body: { confirmed: false, ...body },
        }),
      ),
  })

export const useSetLadder = (project: string, model: string) =>
  useProjectAct(project, (stages: NewStage[]) =>
    answer(
      api.PUT('/api/v1/projects/{project}/models/{model}/ladder', {
        params: { path: { project, model } },
        body: { stages },
      }),
    ),
  )

export const useSetGates = (project: string, model: string) =>
  useProjectAct(project, (gates: string) =>
    answer(
      api.PUT('/api/v1/projects/{project}/models/{model}/gates', {
        params: { path: { project, model } },
        body: { gates },
      }),
    ),
  )

/** The kinds of gates that there are, with the fields of their forms. */
export const useGateForms = () =>
  useQuery({
    queryKey: keys.gateKinds(),
    queryFn: () => answer(api.GET('/api/v1/gate-kinds')),
    staleTime: Infinity,
  })

/** One more gate, written by the service into gates that are being written; nothing is set. */
export const useDraftGates = (project: string, model: string) =>
  useMutation({
    mutationFn: (body: Schemas['NewGate']) =>
      answer(
        api.POST('/api/v1/projects/{project}/models/{model}/gates/drafts', {
          params: { path: { project, model } },
          body,
        }),
      ),
  })

export const useChooseLead = (project: string, model: string) =>
  useProjectAct(project, (version: number | null) =>
    answer(
      api.PUT('/api/v1/projects/{project}/models/{model}/lead', {
        params: { path: { project, model } },
        body: { version, comment: '' },
      }),
    ),
  )

export const useRetire = (project: string, model: string, version: number) =>
  useProjectAct(project, (body: { retired: boolean; comment: string }) =>
    answer(
      api.PUT('/api/v1/projects/{project}/models/{model}/versions/{version}/retirement', {
        params: { path: { project, model, version } },
        body,
      }),
    ),
  )

export const useAddEvidence = (project: string, model: string, version: number) =>
  useProjectAct(project, (body: { on: string; run: string }) =>
    answer(
      api.POST('/api/v1/projects/{project}/models/{model}/versions/{version}/evidence', {
        params: { path: { project, model, version } },
        body: { id: newId(), ...body },
      }),
    ),
  )

export const useLabelVersion = (project: string, model: string, version: number) =>
  useProjectAct(project, (labels: Record<string, string | null>) =>
    answer(
      api.PATCH('/api/v1/projects/{project}/models/{model}/versions/{version}/labels', {
        params: { path: { project, model, version } },
        body: { labels },
      }),
    ),
  )
