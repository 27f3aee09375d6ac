/** Columns for the chart: every series on one x axis, however different their own steps and times are. */
import uPlot from 'uplot'

/** Step, seconds since the first point, time of day, or another metric's value at the same step. */
export type Axis = 'step' | 'elapsed' | 'clock' | 'metric'
export type Table = (number | null | undefined)[][]

type Given = {
  steps: number[]
  times: number[]
  values: (number | null)[]
  against?: (number | null)[] | null
}

/** Where each point stands on the x axis; NaN where the other metric has no number. */
export function xOf(one: Given, axis: Axis): number[] {
  if (axis === 'step') return one.steps
  if (axis === 'metric') return (one.against ?? []).map((value) => value ?? NaN)
  const first = one.times[0] ?? 0
  return axis === 'clock'
    ? one.times.map((time) => time / 1e6)
    : one.times.map((time) => (time - first) / 1e6)
}

/** Join series; x is rounded to `columns` places over the range, which no screen can tell from the exact one. */
export function arrange(series: Given[], axis: Axis, log: boolean, columns: number): Table {
  const xs = series.map((one) => xOf(one, axis))
  const all = xs.flat().filter((x) => !Number.isNaN(x))
  if (all.length === 0) return [[], ...series.map(() => [])]
  let low = Infinity
  let high = -Infinity
  for (const x of all) {
    if (x < low) low = x
    if (x > high) high = x
  }
  const exact = new Set(all).size <= columns * 2
  const grain = (high - low) / columns || 1
  const tables = series.map((one, at): uPlot.AlignedData => {
    const points = new Map<number, number | null>()
    one.values.forEach((value, index) => {
      const x = xs[at]?.[index] ?? 0
      if (Number.isNaN(x)) return
      const place = exact ? x : low + Math.round((x - low) / grain) * grain
      points.set(place, value === null || (log && value <= 0) ? null : value)
    })
    const sorted = [...points].sort((a, b) => a[0] - b[0])
    return [sorted.map((point) => point[0]), sorted.map((point) => point[1])]
  })
  if (tables.length === 1) return tables[0] as unknown as Table
  return uPlot.join(tables) as unknown as Table
}

export type Zoom = [number, number]

/** The steps of points that lie in a stretch of the x axis, for asking the service for finer data. */
export function stepsWithin(series: Given[], axis: Axis, zoom: Zoom): Zoom | null {
  let low = Infinity
  let high = -Infinity
  for (const one of series) {
    const xs = xOf(one, axis)
    xs.forEach((x, at) => {
      if (x < zoom[0] || x > zoom[1]) return
      // One point more on each side, so that lines run on to the edge.
      low = Math.min(low, one.steps[Math.max(0, at - 1)] ?? Infinity)
      high = Math.max(high, one.steps[Math.min(xs.length - 1, at + 1)] ?? -Infinity)
    })
  }
  if (low <= high) return [low, high]
  return axis === 'step' ? [Math.floor(zoom[0]), Math.ceil(zoom[1])] : null
}

/** Exponential smoothing that restarts after a gap. */
export function smoothed(
  column: (number | null | undefined)[],
  weight: number,
): (number | null | undefined)[] {
  let level: number | null = null
  return column.map((value) => {
    if (value === undefined) return undefined
    if (value === null) {
      level = null
      return null
    }
    level = level === null ? value : level * weight + value * (1 - weight)
    return level
  })
}

export type Range = { low: number; high: number; outside: number }

const MANY = 8

/**
 * Among many curves a few wild ones would flatten all others: the middle 95 % of values, where the whole range is
 * over twice as wide; null where nothing is cut.
 */
export function robustRange(series: Given[]): Range | null {
  if (series.length < MANY) return null
  const sorted = series
    .flatMap((one) => one.values)
    .filter((value): value is number => value !== null)
    .sort((a, b) => a - b)
  const at = (share: number) => sorted[Math.round(share * (sorted.length - 1))] ?? 0
  const [low, high] = [at(0.025), at(0.975)]
  if (sorted.length < 50 || at(1) - at(0) <= 2 * (high - low) || high === low) return null
  return { low, high, outside: sorted.filter((value) => value < low || value > high).length }
}
