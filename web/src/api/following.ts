/** What surrounds a run and changes while it goes on: printed output, use of the machine, code. */
import { keepPreviousData, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { answer, api, type Output, type RunDetail } from './client'
import { keys } from './keys'

const AT_ONCE = 1_000
const KEPT = 4_000

type Of = Pick<RunDetail, 'project' | 'experiment' | 'number' | 'reference'>
type Asked = { from_line?: number; stream?: 'stdout' | 'stderr'; search?: string; limit?: number }

const pathOf = (run: Of) => ({ project: run.project, experiment: run.experiment, run: String(run.number) })

const readOutput = (run: Of, query: Asked) =>
  answer(
    api.GET('/api/v1/projects/{project}/experiments/{experiment}/runs/{run}/output', {
      params: { path: pathOf(run), query: { limit: AT_ONCE, ...query } },
    }),
  )

/** The last lines of a run's output; when more was printed only the new lines are read. */
export function useOutput(run: Of, stream: string | null, find: string) {
  const queries = useQueryClient()
  const [readingEarlier, setReading] = useState(false)
  const key = keys.output(run.project, run.reference, stream, find)
  const asked: Asked = {
    ...(stream === 'stdout' || stream === 'stderr' ? { stream } : {}),
    ...(find ? { search: find } : {}),
  }
  const { data } = useQuery({
    queryKey: key,
    queryFn: async () => {
      const before = queries.getQueryData<Output>(key)
      if (!before || find) return readOutput(run, asked)
      const fresh = await readOutput(run, { ...asked, from_line: before.next_line })
      // Far behind, the last lines are read anew instead of all between.
      if (fresh.more) return readOutput(run, asked)
      // Earlier lines may have come in between; they must not be lost again.
      const now = queries.getQueryData<Output>(key) ?? before
      return { ...fresh, lines: [...now.lines, ...fresh.lines].slice(-KEPT), more: now.more }
    },
    placeholderData: keepPreviousData,
  })
  const earlier = async () => {
    const first = data?.lines[0]?.number ?? 0
    setReading(true)
    try {
      const found = await readOutput(run, { ...asked, from_line: Math.max(0, first - AT_ONCE) })
      const lines = found.lines.filter((line) => (line.number ?? 0) < first)
      queries.setQueryData<Output>(key, (now) => now && { ...now, lines: [...lines, ...now.lines] })
    } finally {
      setReading(false)
    }
  }
  return { data, earlier, readingEarlier }
}

export const useResources = (run: Of, width: number) =>
  useQuery({
    queryKey: keys.resources(run.project, run.reference, width),
    queryFn: () =>
      answer(
        api.GET('/api/v1/projects/{project}/experiments/{experiment}/runs/{run}/resources', {
          params: { path: pathOf(run), query: { width } },
        }),
      ),
    placeholderData: keepPreviousData,
  })

export const useSurroundings = (run: Of, against: string | null, enabled: boolean) =>
  useQuery({
    queryKey: keys.surroundings(run.project, run.reference, against),
    enabled,
    queryFn: () =>
      answer(
        api.GET('/api/v1/projects/{project}/experiments/{experiment}/runs/{run}/surroundings', {
          params: { path: pathOf(run), query: against ? { against } : {} },
        }),
      ),
  })

export const useToday = (since: string | null) =>
  useQuery({
    queryKey: keys.today(since),
    queryFn: async () => {
      // A page left open behind other windows is no visit.
      if (!since && document.visibilityState === 'visible') await answer(api.POST('/api/v1/visits'))
      return answer(api.GET('/api/v1/today', { params: { query: since ? { since } : {} } }))
    },
    placeholderData: keepPreviousData,
  })
