/** The lines of the table: runs or groups, read a page at a time as they come into sight, with what stands under them. */
import { useQueries } from '@tanstack/react-query'
import { useMemo } from 'react'
import type { Run, RunPage } from '../../../api/client'
import { innerRuns, PAGE, runsPage, type Asked, type RunGroup } from '../../../api/finding'
import { useGroups } from './groups'

export type Line =
  | { kind: 'run'; run: Run; inner: boolean; open: boolean | null; id: string }
  | { kind: 'group'; group: RunGroup; open: boolean; id: string }
  | { kind: 'more'; text: string; id: string }
  | { kind: 'waiting'; id: string }

/** Of so many runs groups are added up over all columns at once; of more over those in sight. */
const AT_ONCE = 3_000

export type Span = { first: number; last: number }

/** What stands under an opened line: the query that finds it. */
const innerQuery = (line: Base) =>
  line.group ? line.group.query : line.run ? `parent = ${line.run.reference}` : ''

/** Where a table's length is only known to the cap, it grows as one gets near to its end. */
const lengthOf = (count: number, capped: boolean, known: number | undefined, seen: number) =>
  !capped ? count : (known ?? Math.max(count, seen + 10 * PAGE))

export function useLines(
  place: { project: string; experiment: string },
  asked: Asked,
  group: string | null,
  first: RunPage,
  span: Span,
  open: Set<string>,
  /** How many there are, where nothing is asked. */
  total: number | undefined,
  /** Every column of the table in its order, and how many of them came into sight. */
  columns: string[],
  reach: number,
) {
  const { project, experiment } = place
  const wanted = useMemo(() => {
    const from = Math.max(0, Math.floor(span.first / PAGE))
    const to = Math.max(from, Math.floor(span.last / PAGE))
    // Where lines were opened, what is on screen begins earlier in the table than the lines say.
    const early = open.size ? Math.max(0, from - open.size) : from
    return Array.from({ length: Math.min(8, to - early + 1) }, (_, at) => early + at).filter(
      (page) => page > 0,
    )
  }, [span.first, span.last, open.size])
  const runPages = useQueries({
    queries: (group === null ? wanted : []).map((page) => runsPage(project, experiment, asked, page * PAGE)),
  })
  const groups = useGroups(
    place,
    asked,
    group,
    wanted,
    columns,
    first.count > AT_ONCE ? reach : columns.length,
  )
  const grouped = groups.pages[0]
  const base = (index: number): Base => {
    const page = Math.floor(index / PAGE)
    const at = index % PAGE
    const there = wanted.indexOf(page)
    if (group !== null) {
      return { group: groups.pages[there + 1]?.groups[at] }
    }
    return { run: (page === 0 ? first : runPages[there]?.data)?.rows[at] }
  }
  // A line that waits stands for groups that are on their way.
  const length =
    group !== null
      ? lengthOf(
          grouped?.count ?? (groups.error ? 0 : 1),
          grouped?.count_is_capped ?? false,
          undefined,
          span.last,
        )
      : lengthOf(first.count, first.count_is_capped, total, span.last)
  const under = useUnder(place, asked, open, wanted, base)
  const added = under.reduce((sum, each) => sum + each.size, 0)

  const lineAt = (at: number): Line => {
    const found = innerLine(under, at)
    return typeof found === 'number' ? baseLine(base(found), at, asked.fold, group, open) : found
  }
  return { length: length + added, lineAt, grouped, whole: groups.whole, error: groups.error }
}

type Base = { run?: Run; group?: RunGroup }
type Under = { index: number; id: string; rows: Run[] | undefined; size: number; rest: number }

/** What stands under opened lines, in the order of the table. */
function useUnder(
  { project, experiment }: { project: string; experiment: string },
  asked: Asked,
  open: Set<string>,
  wanted: number[],
  base: (index: number) => Base,
): Under[] {
  // Opened lines are few: they are looked for on the pages that are here.
  const opened: { index: number; query: string; id: string }[] = []
  for (const page of open.size ? [0, ...wanted] : []) {
    for (let index = page * PAGE; index < (page + 1) * PAGE; index++) {
      const found = base(index)
      const id = found.run?.reference ?? found.group?.query
      if (id && open.has(id)) opened.push({ index, query: innerQuery(found), id })
    }
  }
  const inner = useQueries({
    queries: opened.map(({ query }) => innerRuns(project, experiment, query, asked.sort, asked.column)),
  })
  return opened.map(({ index, id }, at) => {
    const found = inner[at]?.data
    const rest = found ? found.count - found.rows.length : 0
    return { index, id, rows: found?.rows, size: found ? found.rows.length + (rest > 0 ? 1 : 0) : 1, rest }
  })
}

/** The line at a place where it stands under an opened one; else the index of the table's own line there. */
function innerLine(under: Under[], at: number): Line | number {
  let left = at
  for (const each of under) {
    if (left <= each.index) break
    const within = left - each.index - 1
    if (within < each.size) {
      const run = each.rows?.[within]
      if (run) return { kind: 'run', run, inner: true, open: null, id: `${each.id}>${run.id}` }
      if (!each.rows) return { kind: 'waiting', id: `${each.id}>` }
      return { kind: 'more', text: `and ${each.rest.toLocaleString('en')} more`, id: `${each.id}>more` }
    }
    left -= each.size
  }
  return left
}

function baseLine(found: Base, at: number, fold: boolean, by: string | null, open: Set<string>): Line {
  if (found.group && !(found.group.runs === 1 && by === 'replicates')) {
    const id = found.group.query
    return { kind: 'group', group: found.group, open: open.has(id), id }
  }
  const run = found.run ?? found.group?.last
  if (!run) return { kind: 'waiting', id: `waiting ${at}` }
  const parent = fold && run.children > 0
  return { kind: 'run', run, inner: false, open: parent ? open.has(run.reference) : null, id: run.id }
}
