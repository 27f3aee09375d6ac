/** Which columns the run table shows and what each is called; by default what differs, values with goals among it. */
import type { ChosenColumn } from '../../api/finding'
import type { Goal, RunPage } from '../../api/client'
import { word } from './words'

export type Column = {
  scope: 'param' | 'value' | 'label' | 'field'
  name: string
  aggregate?: string | null
  goal?: Goal
  /** How the column is named in the address, in queries and to sort by. */
  text: string
}

const PREFIX = { param: 'param:', value: 'metric:', label: 'label:', field: '' }
const FIELDS = new Set([
  'number', 'id', 'name', 'status', 'author', 'host', 'started', 'ended', 'duration', 'commit', 'code', 'parent', 'note',
  'problem', 'project', 'experiment', 'replicates',
]) // prettier-ignore

type Known = { scope: string; name: string }

/** Name a column: plainly where that can mean nothing else, with its scope otherwise. */
export function columnText(column: Known & { aggregate?: string | null }, known: Known[]): string {
  const name = word(column.name)
  if (column.aggregate) return `${column.aggregate}(${name})`
  const others = known.filter((other) => other.name === column.name && other.scope !== column.scope)
  const taken = column.scope !== 'field' && FIELDS.has(column.name)
  const plain = column.scope === 'field' || (others.length === 0 && !taken && column.scope !== 'label')
  return plain ? name : PREFIX[column.scope as keyof typeof PREFIX] + name
}

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
  return ordered.map((name) => ({
    scope: 'value',
    name,
    goal: goals.get(name),
    text: columnText({ scope: 'value', name }, page.columns),
  }))
}

/** More columns than this are shown only when they are asked for; the rest is counted. */
export const COLUMNS_SHOWN = 60

/** Settings of searches, which no run that was tried has: where they look, and how long. */
const OF_SEARCH = /^(space|budget)\./

function leading(page: RunPage): Column[] {
  const values = keysOf(page)
  const settings = page.columns
    .filter((column) => column.scope === 'param' && column.differs && !OF_SEARCH.test(column.name))
    .map((column): Column => ({
      scope: 'param',
      name: column.name,
      text: columnText(column, page.columns),
    }))
  const withGoals = values.filter((column) => column.goal)
  const others = values.filter((column) => !column.goal)
  const all = withGoals.length ? [...settings, ...withGoals, ...others] : [...settings, ...others]
  // Values with goals are kept, however many settings come before them.
  const kept = new Set([...new Set([...withGoals, ...all])].slice(0, COLUMNS_SHOWN))
  return all.filter((column) => kept.has(column))
}

const chosen = (columns: ChosenColumn[], goals: Goal[]): Column[] =>
  columns.map((column) => ({
    scope: column.scope,
    name: column.name,
    aggregate: column.aggregate,
    text: column.text,
    goal: column.scope === 'value' ? goals.find((goal) => goal.key === column.name) : undefined,
  }))

export type Shown = { columns: Column[]; equal: number; others: number }

/** The columns of a page: those that were asked for, else those in which its runs differ. */
export function columnsOf(page: RunPage): Shown {
  const columns = page.chosen.length ? chosen(page.chosen, page.goals) : leading(page)
  const shown = new Set(columns.map((column) => `${column.scope}:${column.name}`))
  const rest = page.columns.filter((column) => !shown.has(`${column.scope}:${column.name}`))
  const equal = rest.filter((column) => column.scope === 'param' && !column.differs).length
  return { columns, equal, others: rest.length - equal }
}
