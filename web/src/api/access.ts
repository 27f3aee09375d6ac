/** People, tokens, projects as such, the journal: what the pages of access read and change. */
import { useMutation, useQuery, useQueryClient, type QueryKey } from '@tanstack/react-query'
import { answer, api, type Schemas } from './client'
import { keys } from './keys'

export type Person = Schemas['Person']
export type Token = Schemas['TokenView']
export type JournalRow = Schemas['JournalRow']

/** An act after which some readings are made anew. */
function useAct<T, Answer>(act: (asked: T) => Promise<Answer>, ...stale: QueryKey[]) {
  const queries = useQueryClient()
  return useMutation({
    mutationFn: act,
    onSettled: () => Promise.all(stale.map((queryKey) => queries.invalidateQueries({ queryKey }))),
  })
}

export const useAccount = () =>
  useQuery({ queryKey: keys.account(), queryFn: () => answer(api.GET('/api/v1/account')) })

export const useChangeAccount = () =>
  useAct(
    (body: Schemas['OwnChange']) => answer(api.PATCH('/api/v1/account', { body })),
    keys.account(),
    keys.me(),
  )

export const useChangePassword = () =>
  useAct(
    (body: Schemas['ChangedPassword']) => answer(api.PUT('/api/v1/account/password', { body })),
    keys.account(),
    keys.tokens(),
  )

export const useSessions = () =>
  useQuery({ queryKey: keys.sessions(), queryFn: () => answer(api.GET('/api/v1/account/sessions')) })

export const useEndSession = () =>
  useAct(
    (session: number | null) =>
      session === null
        ? answer(api.DELETE('/api/v1/account/sessions'))
        : answer(api.DELETE('/api/v1/account/sessions/{session}', { params: { path: { session } } })),
    keys.account(),
  )

export const useTokens = () =>
  useQuery({ queryKey: keys.tokens(), queryFn: () => answer(api.GET('/api/v1/tokens')) })

export const useMakeToken = () =>
  useAct((body: Schemas['NewToken']) => answer(api.POST('/api/v1/tokens', { body })), keys.tokens())

export const useRevokeToken = () =>
  useAct(
    (token: string) => answer(api.DELETE('/api/v1/tokens/{token}', { params: { path: { token } } })),
    keys.tokens(),
  )

export const usePeople = () =>
  useQuery({ queryKey: keys.people(), queryFn: () => answer(api.GET('/api/v1/people')) })

export const useInvite = () =>
  useAct((body: Schemas['NewPerson']) => answer(api.POST('/api/v1/people', { body })), keys.people())

export const useChangePerson = () =>
  useAct(
    ({ person, ...body }: Schemas['PersonChange'] & { person: string }) =>
      answer(api.PATCH('/api/v1/people/{person}', { params: { path: { person } }, body })),
    keys.people(),
  )

export const useMakeLink = () =>
  useAct(
    (person: string) => answer(api.POST('/api/v1/people/{person}/links', { params: { path: { person } } })),
    keys.people(),
  )

export const useSettings = (project: string) =>
  useQuery({
    queryKey: keys.settings(project),
    queryFn: () => answer(api.GET('/api/v1/projects/{project}/settings', { params: { path: { project } } })),
    retry: false,
  })

export const useChangeSettings = (project: string) =>
  useAct(
    (body: Schemas['ProjectChange']) =>
      answer(api.PATCH('/api/v1/projects/{project}/settings', { params: { path: { project } }, body })),
    keys.settings(project),
    keys.projects(),
  )

/** Give or (null) take away a role, of a person or of a group. */
export const useSetRole = (project: string) =>
  useAct(
    ({ kind, name, role }: { kind: 'person' | 'group'; name: string; role: string | null }) => {
      if (kind === 'group') {
        const params = { path: { project, group: name } }
        return role === null
          ? answer(api.DELETE('/api/v1/projects/{project}/groups/{group}', { params }))
          : answer(api.PUT('/api/v1/projects/{project}/groups/{group}', { params, body: { role } }))
      }
      const params = { path: { project, person: name } }
      return role === null
        ? answer(api.DELETE('/api/v1/projects/{project}/members/{person}', { params }))
        : answer(api.PUT('/api/v1/projects/{project}/members/{person}', { params, body: { role } }))
    },
    keys.settings(project),
    keys.members(project),
  )

export const useSetQuota = (project: string) =>
  useAct(
    (body: Schemas['NewQuota']) =>
      answer(api.PUT('/api/v1/projects/{project}/quota', { params: { path: { project } }, body })),
    keys.storage(project),
  )

export const useDeleteProject = (project: string) =>
  useAct(
    (confirmed: string) =>
      answer(
        api.POST('/api/v1/projects/{project}/deletion', {
          params: { path: { project } },
          body: { confirmed },
        }),
      ),
    keys.projects(),
    keys.instance(),
  )

export const useMachineTokens = (project: string) =>
  useQuery({
    queryKey: keys.machineTokens(project),
    queryFn: () => answer(api.GET('/api/v1/projects/{project}/tokens', { params: { path: { project } } })),
    retry: false,
  })

export const useMakeMachineToken = (project: string) =>
  useAct(
    (body: Schemas['NewMachineToken']) =>
      answer(api.POST('/api/v1/projects/{project}/tokens', { params: { path: { project } }, body })),
    keys.settings(project),
  )

export const useRevokeMachineToken = (project: string) =>
  useAct(
    (token: string) =>
      answer(
        api.DELETE('/api/v1/projects/{project}/tokens/{token}', { params: { path: { project, token } } }),
      ),
    keys.settings(project),
  )

export const useSecrets = (project: string) =>
  useQuery({
    queryKey: keys.secrets(project),
    queryFn: () => answer(api.GET('/api/v1/projects/{project}/secrets', { params: { path: { project } } })),
    retry: false,
  })

export const useSetSecret = (project: string) =>
  useAct(
    ({ name, value }: { name: string; value: string }) =>
      answer(
        api.PUT('/api/v1/projects/{project}/secrets/{name}', {
          params: { path: { project, name } },
          body: { value },
        }),
      ),
    keys.secrets(project),
  )

export const useRemoveSecret = (project: string) =>
  useAct(
    (name: string) =>
      answer(
        api.DELETE('/api/v1/projects/{project}/secrets/{name}', { params: { path: { project, name } } }),
      ),
    keys.secrets(project),
  )

export type JournalAsked = { text: string; since: string | null; limit: number }

export const useJournal = (project: string | null, asked: JournalAsked) =>
  useQuery({
    queryKey: project === null ? keys.wholeJournal(asked) : keys.projectJournal(project, asked),
    queryFn: () => {
      const query = { text: asked.text, limit: asked.limit, ...(asked.since ? { since: asked.since } : {}) }
      return project === null
        ? answer(api.GET('/api/v1/journal', { params: { query } }))
        : answer(api.GET('/api/v1/projects/{project}/journal', { params: { path: { project }, query } }))
    },
    retry: false,
  })

export const useInstance = () =>
  useQuery({
    queryKey: keys.instance(),
    queryFn: () => answer(api.GET('/api/v1/instance')),
    refetchInterval: 10_000,
    retry: false,
  })

export const useDeletedProjects = () =>
  useQuery({
    queryKey: keys.deletedProjects(),
    queryFn: () => answer(api.GET('/api/v1/deleted-projects')),
    retry: false,
  })

export const useRestoreProject = () =>
  useAct(
    (name: string) =>
      answer(api.POST('/api/v1/deleted-projects/{name}/restoration', { params: { path: { name } } })),
    keys.instance(),
    keys.projects(),
  )

export const useRemoveProject = () =>
  useAct(
    ({ name, confirmed }: { name: string; confirmed: string }) =>
      answer(
        api.POST('/api/v1/deleted-projects/{name}/removal', {
          params: { path: { name } },
          body: { confirmed },
        }),
      ),
    keys.instance(),
  )

export const useWaysIn = () =>
  useQuery({
    queryKey: keys.waysIn(),
    queryFn: () => answer(api.GET('/api/v1/sign-in')),
    staleTime: Infinity,
  })

export const useWelcome = (secret: string) =>
  useQuery({
    queryKey: keys.welcome(secret),
    queryFn: () => answer(api.GET('/api/v1/account-links/{secret}', { params: { path: { secret } } })),
    retry: false,
  })

export const useChoosePassword = (secret: string) =>
  useAct((body: Schemas['ChosenPassword']) =>
    answer(api.POST('/api/v1/account-links/{secret}', { params: { path: { secret } }, body })),
  )
