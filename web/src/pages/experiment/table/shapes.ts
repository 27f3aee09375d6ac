/** How columns look: numbers to the right with aligned decimals, one thin trend, widths that fit or were dragged. */
import type { Run, RunPage } from '../../../api/client'
import type { GroupPage } from '../../../api/finding'
import { scaleOf, type TrendScale } from '../../../charts/Trend'
import { asNumber, decimalsOf, lasting, moment, plain, show } from '../../../parts/values'
import type { Column } from '../columns'

export type Shape = Column & {
  numeric: boolean
  decimals: number
  trend: TrendScale | null
  width: number
  pinned: boolean
  /** Distance from the left where it is pinned. */
  left: number
}

export const NAME_WIDTH = 216
export const STARTED_WIDTH = 132
/** Behind the columns stands why a run failed. */
export const REASON_WIDTH = 160
export const ROW = 28

export function cellOf(run: Run, column: Column): unknown {
  if (column.scope === 'field') return fieldOf(run, column.name)
  if (column.aggregate) return run.metrics[column.name]?.[column.aggregate as 'last']
  const held = column.scope === 'value' ? run.values : column.scope === 'label' ? run.labels : run.params
  return held[column.name]
}

function fieldOf(run: Run, name: string): unknown {
  switch (name) {
    case 'duration':
      return run.ended_at === null
        ? undefined
        : (new Date(run.ended_at).getTime() - new Date(run.started_at).getTime()) / 1000
    case 'started':
      return run.started_at
    case 'ended':
      return run.ended_at ?? undefined
    case 'problem':
      return run.problems.map((problem) => problem.text).join('; ') || undefined
    case 'parent':
      return run.parent ?? run.parent_id ?? undefined
    default: {
      const found = (run as unknown as Record<string, unknown>)[name]
      return found === null || found === '' ? undefined : found
    }
  }
}

/** A cell as text. */
export function written(column: Shape, value: unknown): string {
  if (value !== undefined && column.scope === 'field') {
    if (column.name === 'duration') return lasting(Number(value))
    if (column.name === 'started' || column.name === 'ended') return moment(String(value))
    if (column.name === 'commit') return String(value).slice(0, 10)
  }
  return show(value, column.numeric && column.scope === 'value' ? column.decimals : undefined)
}

export function lineOf(run: Run, name: string) {
  const metric = run.metrics[name]
  return metric?.line_steps?.length ? { steps: metric.line_steps, values: metric.line_values ?? [] } : null
}

export function label(column: Column): string {
  return column.aggregate ? `${column.aggregate}(${column.name})` : column.name
}

/** Numbers of the cells of groups: what is shared, and means. */
function ofGroups(grouped: GroupPage, column: Column): unknown[] {
  const at = grouped.columns.findIndex(
    (other) =>
      other.scope === column.scope &&
      other.name === column.name &&
      (other.aggregate ?? null) === (column.aggregate ?? null),
  )
  return grouped.groups.flatMap((group) => {
    const cell = group.cells[at]
    return cell ? [cell.is_shared ? cell.shared : (cell.spread?.mean ?? 'several')] : []
  })
}

export function shapesOf(
  columns: Column[],
  page: RunPage,
  grouped: GroupPage | undefined,
  pins: string[],
  widths: Map<string, number>,
): Shape[] {
  const first = columns.find((column) => column.goal && !column.aggregate)
  const found = columns.map((column) => {
    const held = grouped ? ofGroups(grouped, column) : page.rows.map((run) => cellOf(run, column))
    const cells = held.filter((cell) => cell !== undefined)
    const numeric =
      cells.length > 0 && (column.name === 'duration' || cells.every((cell) => asNumber(cell) !== null))
    const trend = column === first && !grouped ? trendOf(page, column) : null
    const title = label(column).length + (column.goal ? 2 : 0)
    const longest = Math.max(title + 2, ...cells.map((cell) => show(cell).length))
    const ofNumbers = Math.min(150, title * 6.6 + 30)
    const fits = trend
      ? 178
      : numeric
        ? Math.max(grouped ? 104 : 56, ofNumbers)
        : Math.max(70, Math.min(190, longest * 6.6 + 18))
    const decimals = decimalsOf(cells.map(plain))
    const width = widths.get(column.text) ?? Math.round(fits)
    return { ...column, numeric, decimals, trend, width, pinned: pins.includes(column.text), left: 0 }
  })
  const ordered = [...found.filter((column) => column.pinned), ...found.filter((column) => !column.pinned)]
  let left = NAME_WIDTH
  return ordered.map((column) => {
    const placed = { ...column, left }
    if (column.pinned) left += column.width
    return placed
  })
}

function trendOf(page: RunPage, column: Column): TrendScale | null {
  const lines = page.rows.flatMap((run) => lineOf(run, column.name) ?? [])
  const best = page.rows
    .map((run) => asNumber(cellOf(run, column)))
    .filter((value): value is number => value !== null && isFinite(value))
  const leader = best.length
    ? column.goal?.direction === 'lower'
      ? Math.min(...best)
      : Math.max(...best)
    : null
  return scaleOf(lines, leader)
}
