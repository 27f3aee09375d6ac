/** One way to change something: send it, and read anew what it may have changed. */
import { useMutation, useQueryClient, type QueryKey } from '@tanstack/react-query'
import { isInProject } from './keys'

/** An act in a project, after which everything of the project is read anew, and what the `others` keys stand for. */
export function useProjectAct<T, Answer>(
  project: string,
  act: (asked: T) => Promise<Answer>,
  ...others: QueryKey[]
) {
  const queries = useQueryClient()
  return useMutation({
    mutationFn: act,
    onSettled: () =>
      Promise.all([
        queries.invalidateQueries({ predicate: ({ queryKey }) => isInProject(queryKey, project) }),
        ...others.map((queryKey) => queries.invalidateQueries({ queryKey })),
      ]),
  })
}
