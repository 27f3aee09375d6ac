/** What ECharts draws of many runs: a cloud, groups side by side, values over runs, parallel coordinates. */
import type { EChartsCoreOption } from 'echarts/core'
import type { Drawn, DrawnColumn } from '../api/comparing'
import { look, resolved } from '../parts/looks'
import { show } from '../parts/values'
import {
  commonStretch, cutOf, isNumeric, levelsOf, nameOf, numberAt, shownAt, within, type Cut,
} from './drawnColumns' // prettier-ignore

export type Slots = Map<string, number>
export const FONT = '"Source Sans 3 Variable", "Source Sans 3", sans-serif'
const QUIET = 5
export const tones = () => ({
  text: resolved('var(--ink)'),
  quiet: resolved('var(--ink3)'),
  line: resolved('var(--line)'),
  faint: resolved('var(--line2)'),
  surface: resolved('var(--surface)'),
  accent: resolved('var(--accent)'),
  strong: resolved('var(--s1)'),
})

export const base = () => ({
  animation: false,
  backgroundColor: 'transparent',
  textStyle: { fontFamily: FONT, fontSize: 11, color: tones().quiet },
})

export const tip = () => ({
  renderMode: 'richText' as const,
  trigger: 'item' as const,
  confine: true,
  backgroundColor: tones().surface,
  borderColor: tones().quiet,
  borderWidth: 1,
  padding: [4, 8],
  textStyle: { color: tones().text, fontSize: 11, fontFamily: FONT },
})

function axis(column: DrawnColumn | null, name: string, log: boolean, gap: number) {
  const { quiet, line } = tones()
  const category = column !== null && !isNumeric(column)
  return {
    type: category ? ('category' as const) : log ? ('log' as const) : ('value' as const),
    ...(category ? { data: levelsOf(column) } : { scale: true }),
    name,
    nameLocation: 'middle' as const,
    nameGap: gap,
    nameTextStyle: { color: quiet, fontSize: 11 },
    axisLine: { show: true, onZero: false, lineStyle: { color: quiet } },
    axisTick: { show: false },
    axisLabel: { color: quiet, fontSize: 11, hideOverlap: true },
    splitLine: { show: !category, lineStyle: { color: line } },
  }
}

export const about = (drawn: Drawn, at: number, columns: DrawnColumn[]) => {
  const run = drawn.runs[at]
  const values = columns.map((column) => `${nameOf(column)} ${show(column.values[at])}`)
  return `${run?.number ?? ''}${run?.name ? ` ${run.name}` : ''}\n${values.join('\n')}`
}

/** An axis that shows a stretch; whatever lies outside of it is not drawn, and its odd ends are not written. */
function stretched<A extends { axisLabel: object }>(found: A, cut: Cut | null) {
  if (!cut) return found
  const axisLabel = { ...found.axisLabel, showMinLabel: false, showMaxLabel: false }
  return { ...found, min: cut.low, max: cut.high, axisLabel }
}

export type Cloud = {
  drawn: Drawn
  x: DrawnColumn
  y: DrawnColumn
  colour: DrawnColumn | null
  size: DrawnColumn | null
  logX: boolean
  logY: boolean
  slots: Slots
  /** Run numbers on the front of the trade-off between x and y. */
  front: Set<number> | null
  /** Of one chart among several: the columns of all runs, whose scales they share. */
  whole?: Pick<Cloud, 'x' | 'y' | 'colour' | 'size'>
  /** What the query asks of the columns: drawn as a field, and runs outside of it pale. */
  asked?: { x: Field | null; y: Field | null }
}

/** What passes on one axis: a stretch of numbers, or some of the names. */
export type Field = { low: number; high: number } | { names: string[] }

const passes = (field: Field | null | undefined, value: unknown) =>
  !field ||
  ('names' in field
    ? field.names.includes(show(value))
    : typeof value === 'number' && value >= field.low && value <= field.high)

/** The field of the query in the cloud; sides that it leaves open reach the edges. */
function fieldOf({ x, y }: NonNullable<Cloud['asked']>) {
  const [stretchX, stretchY] = [x, y].map((field) => (field && 'low' in field ? field : null))
  if (!stretchX && !stretchY) return {}
  const corner = (end: 'low' | 'high') => ({
    ...(stretchX ? { xAxis: stretchX[end] } : {}),
    ...(stretchY ? { yAxis: stretchY[end] } : {}),
  })
  return {
    markArea: {
      silent: true,
      itemStyle: { color: tones().accent, opacity: 0.08, borderColor: tones().accent, borderWidth: 1 },
      data: [[corner('low'), corner('high')]],
    },
  }
}

function stretchesOf({ x, y, logX, logY, whole }: Cloud): [Cut | null, Cut | null] {
  return whole
    ? [commonStretch(whole.x, logX), commonStretch(whole.y, logY)]
    : [cutOf(x, logX), cutOf(y, logY)]
}

type Dot = { value: (number | string)[]; at: number; itemStyle: object; symbolSize: number; symbol?: string }

/** How many runs have no place in the cloud: a value is missing, is no number, or cannot stand on a log scale. */
export const withoutPlace = ({ drawn, x, y, logX, logY }: Cloud) =>
  drawn.runs.filter((_, at) => shownAt(x, at, logX) === null || shownAt(y, at, logY) === null).length

/** How many values lie outside of the scales that fit the others. */
export const outsideOf = ({ x, y, logX, logY }: Cloud) =>
  (cutOf(x, logX)?.outside ?? 0) + (cutOf(y, logY)?.outside ?? 0)

/** Where a run's value lies between the lowest and the highest of all. */
function scaleOf(all: DrawnColumn | null, column: DrawnColumn | null): (at: number) => number | null {
  if (!all || !column || !isNumeric(all)) return () => null
  const numbers = all.values.map((_, at) => numberAt(all, at)).filter((value) => value !== null)
  const [low, high] = [Math.min(...numbers), Math.max(...numbers)]
  return (at) => {
    const value = numberAt(column, at)
    return value === null ? null : high > low ? (value - low) / (high - low) : 0.5
  }
}

function mixed(from: string, to: string, share: number): string {
  const parts = (hex: string) => [1, 3, 5].map((at) => parseInt(hex.slice(at, at + 2), 16))
  const [a, b] = [parts(from), parts(to)]
  return `rgb(${a.map((one, at) => Math.round(one + ((b[at] ?? 0) - one) * share)).join(',')})`
}

function dotsOf(cloud: Cloud): Dot[] {
  const { drawn, x, y, colour, logX, logY, slots, asked } = cloud
  const all = cloud.whole ?? cloud
  const { faint, strong, quiet } = tones()
  const colourOf = (share: number | null, level: number) =>
    share !== null ? mixed(faint, strong, share) : level >= 0 ? resolved(look(level + 1).colour) : quiet
  const [shade, grow] = [scaleOf(all.colour, colour), scaleOf(all.size, cloud.size)]
  const levels = all.colour && !isNumeric(all.colour) ? levelsOf(all.colour) : []
  const [cutX, cutY] = stretchesOf(cloud)
  const slotOf = (number: number) => slots.get(String(number)) ?? 0
  const isPale = (place: unknown[]) => !passes(asked?.x, place[0]) || !passes(asked?.y, place[1])
  return drawn.runs.flatMap((run, at): Dot[] => {
    const place = [shownAt(x, at, logX), shownAt(y, at, logY)]
    if (place.some((value) => value === null)) return []
    if (!within(place[0], cutX) || !within(place[1], cutY)) return []
    const slot = slotOf(run.number)
    const level = levels.length ? levels.indexOf(show(colour?.values[at])) : -1
    const chosen = slot > 0
    return [
      {
        value: place as (number | string)[],
        at,
        symbolSize: QUIET + 9 * (grow(at) ?? (chosen ? 0.5 : 0.15)),
        symbol: 'circle',
        itemStyle: {
          color: chosen && !colour ? resolved(look(slot).colour) : colourOf(shade(at), level),
          opacity: isPale(place) ? 0.2 : chosen ? 1 : 0.75,
          ...(chosen ? { borderColor: tones().text, borderWidth: 1.5 } : {}),
        },
      },
    ]
  })
}

export function cloudOption(cloud: Cloud): EChartsCoreOption {
  const { drawn, x, y, colour, size, logX, logY, front } = cloud
  const dots = dotsOf(cloud)
  const [stretchX, stretchY] = stretchesOf(cloud)
  const told = [x, y, ...[colour, size].filter((column) => column !== null)]
  const chosen = cloud.slots
  const onFront = front
    ? dots
        .filter((dot) => front.has(drawn.runs[dot.at]?.number ?? -1))
        .map((dot) => dot.value)
        .sort((a, b) => Number(a[0]) - Number(b[0]))
    : []
  return {
    ...base(),
    grid: { left: 62, right: 24, top: 14, bottom: 42 },
    tooltip: {
      ...tip(),
      formatter: ({ data }: { data: Dot }) => (data.at === undefined ? '' : about(drawn, data.at, told)),
    },
    xAxis: stretched(axis((cloud.whole ?? cloud).x, nameOf(x), logX, 26), stretchX),
    yAxis: stretched(axis((cloud.whole ?? cloud).y, nameOf(y), logY, 46), stretchY),
    series: [
      {
        type: 'line',
        silent: true,
        data: onFront,
        showSymbol: true,
        symbol: 'emptyCircle',
        symbolSize: 13,
        lineStyle: { color: tones().accent, width: 1.2, type: [4, 3] },
        itemStyle: { color: tones().accent },
        z: 1,
      },
      {
        type: 'scatter',
        data: dots,
        ...(cloud.asked ? fieldOf(cloud.asked) : {}),
        label: {
          show: true,
          position: 'right',
          fontSize: 11,
          color: tones().text,
          formatter: ({ data }: { data: Dot }) => {
            const number = String(drawn.runs[data.at]?.number ?? '')
            return chosen.has(number) ? number : ''
          },
        },
      },
    ],
  }
}

export type Groups = { name: string; mean: number; deviation: number | null; runs: number }[]

/** Every run as a dot over its group, with the mean and one standard deviation to each side. */
export function spreadOption(
  drawn: Drawn,
  by: DrawnColumn,
  y: DrawnColumn,
  groups: Groups,
  log: boolean,
  slots: Slots,
): EChartsCoreOption {
  // prettier-ignore
  const { quiet, text } = tones()
  const names = groups.map((group) => group.name)
  const counts = new Map<string, number>()
  const cut = cutOf(y, log)
  const dots = drawn.runs.flatMap((run, at) => {
    const value = shownAt(y, at, log)
    const name = by.values[at] === null ? '–' : show(by.values[at])
    const place = names.indexOf(name)
    if (value === null || place < 0 || !within(value, cut)) return []
    const nth = counts.get(name) ?? 0
    counts.set(name, nth + 1)
    const slot = slots.get(String(run.number)) ?? 0
    // Beside one another, so that equal values are seen to be several.
    const beside = (((nth * 7) % 11) - 5) / 22
    return [
      {
        value: [place + beside, value],
        at,
        symbolSize: slot ? 9 : 6,
        itemStyle: { color: slot ? resolved(look(slot).colour) : quiet, opacity: slot ? 1 : 0.55 },
      },
    ]
  })
  const marks = groups.flatMap((group, place) => {
    const half = group.deviation ?? 0
    return [
      [[place - 0.34, group.mean], [place + 0.34, group.mean]],
      ...(half > 0 ? [[[place, group.mean - half], [place, group.mean + half]]] : []),
    ] // prettier-ignore
  })
  return {
    ...base(),
    grid: { left: 62, right: 24, top: 14, bottom: names.length > 12 ? 70 : 46 },
    tooltip: {
      ...tip(),
      formatter: ({ data }: { data: { at?: number } }) =>
        data.at === undefined ? '' : about(drawn, data.at, [by, y]),
    },
    xAxis: {
      ...axis(null, nameOf(by), false, names.length > 12 ? 54 : 28),
      min: -1,
      max: names.length,
      interval: 1,
      splitLine: { show: false },
      axisLine: { show: true, onZero: false, lineStyle: { color: quiet } },
      axisLabel: {
        color: quiet,
        fontSize: 11,
        rotate: names.length > 12 ? 40 : 0,
        formatter: (value: number) => {
          const group = groups[value]
          return Number.isInteger(value) && group ? `${group.name} ×${group.runs}` : ''
        },
      },
    },
    yAxis: stretched(axis(y, nameOf(y), log, 46), cut),
    series: [
      { type: 'scatter', data: dots },
      ...marks.map((data) => ({
        type: 'line',
        silent: true,
        showSymbol: false,
        data,
        lineStyle: { color: text, width: 1.6 },
        z: 3,
      })),
    ],
  }
}

/** A value over the order in which runs began, and the best so far. */
export function overOption(
  drawn: Drawn,
  y: DrawnColumn,
  log: boolean,
  slots: Slots,
  bound: number | null,
  whole?: { drawn: Drawn; y: DrawnColumn },
): EChartsCoreOption {
  // prettier-ignore
  const { quiet, accent } = tones()
  const order = drawn.runs
    .map((_, at) => at)
    .sort((a, b) => (drawn.runs[a]?.number ?? 0) - (drawn.runs[b]?.number ?? 0))
  const higher = y.goal?.direction !== 'lower'
  const best: [number, number][] = []
  const cut = whole ? commonStretch(whole.y, log) : cutOf(y, log)
  const dots = order.flatMap((at) => {
    const value = shownAt(y, at, log)
    const run = drawn.runs[at]
    if (typeof value !== 'number' || !run) return []
    const before = best.at(-1)?.[1]
    if (y.goal && (before === undefined || (higher ? value > before : value < before)))
      best.push([run.number, value])
    if (!within(value, cut)) return []
    const slot = slots.get(String(run.number)) ?? 0
    return [
      {
        value: [run.number, value],
        at,
        symbolSize: slot ? 9 : 6,
        itemStyle: { color: slot ? resolved(look(slot).colour) : quiet, opacity: slot ? 1 : 0.6 },
      },
    ]
  })
  const all = (whole?.drawn ?? drawn).runs.map((run) => run.number)
  const last = Math.max(...all)
  const end = best.at(-1)
  if (end && end[0] < last) best.push([last, end[1]])
  return {
    ...base(),
    grid: { left: 62, right: 24, top: 14, bottom: 42 },
    tooltip: {
      ...tip(),
      formatter: ({ data }: { data: { at?: number } }) =>
        data.at === undefined ? '' : about(drawn, data.at, [y]),
    },
    xAxis: {
      ...axis(null, 'run', false, 26),
      minInterval: 1,
      ...(whole ? { min: Math.min(...all), max: last } : {}),
    },
    yAxis: stretched(axis(y, nameOf(y), log, 46), cut),
    series: [
      { type: 'scatter', data: dots },
      {
        type: 'line',
        silent: true,
        step: 'end',
        showSymbol: false,
        data: best,
        lineStyle: { color: accent, width: 1.6 },
        ...(bound === null
          ? {}
          : {
              markLine: {
                silent: true,
                symbol: 'none',
                label: { show: false },
                lineStyle: { color: quiet, type: [1, 3] },
                data: [{ yAxis: bound }],
              },
            }),
      },
    ],
  }
}
