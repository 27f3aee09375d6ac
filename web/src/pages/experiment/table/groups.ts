/** Groups, page by page; of many runs only the columns that came into sight are added up, a few at a time. */
import { keepPreviousData, useQueries, type UseQueryResult } from '@tanstack/react-query'
import { useCallback } from 'react'
import { groupsPage, PAGE, type Asked, type GroupPage } from '../../../api/finding'

/** So many columns are asked for in one question: few, so that the first are soon there. */
export const STRIPE = 4

function stripesOf(columns: string[], reach: number): string[][] {
  if (reach >= columns.length) return [columns]
  const found: string[][] = []
  for (let at = 0; at < Math.max(1, reach); at += STRIPE) found.push(columns.slice(at, at + STRIPE))
  return found
}

/** One page out of its stripes: those that are there; groups that changed in between keep what the first says. */
function joined(stripes: (GroupPage | undefined)[]): GroupPage | undefined {
  const [first, ...others] = stripes
  if (!first || others.length === 0) return first
  const there = others.filter((other) => other !== undefined)
  return {
    ...first,
    columns: [first, ...there].flatMap((page) => page.columns),
    groups: first.groups.map((group, at) => ({
      ...group,
      cells: [first, ...there].flatMap(({ groups, columns }) => {
        const same = groups[at]?.query === group.query ? groups[at] : undefined
        return same?.cells ?? columns.map(() => null)
      }),
    })),
  }
}

/** The pages asked for, the first always among them, in that order. */
export function useGroups(
  { project, experiment }: { project: string; experiment: string },
  asked: Asked,
  by: string | null,
  wanted: number[],
  columns: string[],
  reach: number,
) {
  const pages = by === null ? [] : [0, ...wanted]
  const stripes = stripesOf(columns, reach)
  const wide = stripes.length
  const combine = useCallback(
    (found: UseQueryResult<GroupPage>[]) => ({
      pages: Array.from({ length: found.length / wide }, (_, page) =>
        joined(found.slice(page * wide, (page + 1) * wide).map((each) => each.data)),
      ),
      error: found.find((each) => each.error)?.error ?? null,
      whole: found.every((each) => each.data || each.error),
    }),
    [wide],
  )
  return useQueries({
    queries: pages.flatMap((page) =>
      stripes.map((column) => ({
        ...groupsPage(project, experiment, by ?? '', { ...asked, column }, page * PAGE),
        ...(page === 0 ? { placeholderData: keepPreviousData } : {}),
      })),
    ),
    combine,
  })
}
