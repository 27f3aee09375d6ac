/** Columns over many runs as charts read them: numbers or names, and the stretch that a scale shows. */
import type { DrawnColumn } from '../api/comparing'
import { asNumber, show } from '../parts/values'

/** Names of a category that stand along an axis at most. */
export const CATEGORIES = 40

export const isNumeric = (column: DrawnColumn) => {
  const held = column.values.filter((value) => value !== null && value !== undefined)
  return held.length > 0 && held.every((value) => asNumber(value) !== null)
}

export const numberAt = (column: DrawnColumn, at: number) => {
  const found = asNumber(column.values[at])
  return found !== null && isFinite(found) ? found : null
}

/** The values of a column of texts in order, at most as many as an axis can name. */
export const levelsOf = (column: DrawnColumn) => {
  const texts = [...new Set(column.values.filter((value) => value !== null).map((value) => show(value)))]
  const numeric = isNumeric(column)
  texts.sort((a, b) => (numeric ? Number(a) - Number(b) : a.localeCompare(b)))
  return texts.slice(0, CATEGORIES)
}

export const nameOf = (column: DrawnColumn) => {
  const name = column.aggregate ? `${column.aggregate}(${column.name})` : column.name
  const arrow = column.goal ? (column.goal.direction === 'higher' ? ' ↑' : ' ↓') : ''
  return `${name}${arrow}${column.goal?.unit ? ` ${column.goal.unit}` : ''}`
}

const ROOM = 0.06

export type Cut = { low: number; high: number; outside: number }

/**
 * A few far values would flatten all others: the stretch of the middle 95 %, where the whole is ten times as wide; null
 * where nothing is cut. On a log scale nothing is.
 */
export function cutOf(column: DrawnColumn, log: boolean): Cut | null {
  if (log || !isNumeric(column)) return null
  const sorted = column.values
    .map((_, at) => numberAt(column, at))
    .filter((value): value is number => value !== null)
    .sort((a, b) => a - b)
  const place = (share: number) => sorted[Math.round(share * (sorted.length - 1))] ?? 0
  const [low, high] = [place(0.025), place(0.975)]
  if (sorted.length < 20 || high === low || place(1) - place(0) <= 10 * (high - low)) return null
  const room = (high - low) * ROOM
  return {
    low: low - room,
    high: high + room,
    outside: sorted.filter((v) => v < low - room || v > high + room).length,
  }
}

export const within = (value: unknown, cut: Cut | null) =>
  cut === null || typeof value !== 'number' || (value >= cut.low && value <= cut.high)

export const shownAt = (column: DrawnColumn, at: number, log: boolean): number | string | null => {
  if (!isNumeric(column)) return column.values[at] === null ? null : show(column.values[at])
  const number = numberAt(column, at)
  return number === null || (log && number <= 0) ? null : number
}

/** The stretch that all parts show: what fits most values where a few are far off, else all of them with some room. */
export function commonStretch(column: DrawnColumn, log: boolean): Cut | null {
  if (!isNumeric(column)) return null
  const cut = cutOf(column, log)
  if (cut) return cut
  const numbers = column.values
    .map((_, at) => shownAt(column, at, log))
    .filter((value): value is number => typeof value === 'number')
  if (numbers.length === 0) return null
  const [low, high] = [Math.min(...numbers), Math.max(...numbers)]
  if (log) return { low: low / 1.15, high: high * 1.15, outside: 0 }
  const room = (high - low) * ROOM || Math.abs(low) * ROOM || 1
  return { low: low - room, high: high + room, outside: 0 }
}
