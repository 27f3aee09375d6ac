/** Which columns the run table shows: values with goals first, then settings that differ, then other values. */
import type { Goal, RunPage } from '../../api/client'

export type Column = { scope: 'param' | 'value'; name: string; goal?: Goal }

/** Values of the runs, those with goals first. */
export function keysOf(page: RunPage, onlyMetrics = false): Column[] {
  const goals = new Map(page.goals.map((goal) => [goal.key, goal]))
  const withPoints = new Set(page.rows.flatMap((run) => Object.keys(run.metrics)))
  const names = page.columns.filter((column) => column.scope === 'value').map((column) => column.name)
  // Rows of very many keys do not tell of all of them whether they have points.
  const told = page.rows.every((run) => run.complete)
  const kept = onlyMetrics && told ? names.filter((name) => withPoints.has(name)) : names
  const ordered = [
    ...page.goals.map((goal) => goal.key).filter((key) => kept.includes(key)),
    ...kept.filter((name) => !goals.has(name)),
  ]
  return ordered.map((name) => ({ scope: 'value', name, goal: goals.get(name) }))
}

/** More columns than this no screen shows; the rest is counted. */
export const COLUMNS_SHOWN = 60

export function columnsOf(page: RunPage): { columns: Column[]; hidden: number } {
  const values = keysOf(page)
  const settings = page.columns
    .filter((column) => column.scope === 'param' && column.differs)
    .map((column): Column => ({ scope: 'param', name: column.name }))
  const leading = values.filter((column) => column.goal)
  const others = values.filter((column) => !column.goal)
  const all = leading.length ? [...settings, ...leading, ...others] : [...settings, ...others]
  // Values with goals are kept, however many settings come before them.
  const kept = new Set([...new Set([...leading, ...all])].slice(0, COLUMNS_SHOWN))
  return { columns: all.filter((column) => kept.has(column)), hidden: all.length - kept.size }
}
