/** What ECharts is to draw for plots laid over one another. */
import type { EChartsCoreOption } from 'echarts/core'
import type { Plots } from '../api/results'
import { look, resolved } from '../parts/looks'
import { plain, show } from '../parts/values'

export type Legend = { name: string; slot: number; dash: number[]; tone: number }
export type Drawn = { plots: Plots; slots: number[]; names: string[] }

const CELLS_WRITTEN = 20
/** How many names may stand along an axis. */
const LABELS = 25
const DASHES: number[][] = [[], [7, 3], [2, 2.5], [8, 3, 2, 3]]
const DRAWN_SERIES = 60

type Row = Plots['series'][number]

/** The look of each series: its own where one run is drawn; of several runs the run's colour, a dash for each of its series. */
export function legendOf({ plots, slots, names }: Drawn): Legend[] {
  const several = plots.plots.length > 1
  const counts = new Map<number, number>()
  const perRun = new Map<number, number>()
  plots.series.forEach((series) => perRun.set(series.of, (perRun.get(series.of) ?? 0) + 1))
  return plots.series.map((series, at) => {
    const nth = counts.get(series.of) ?? 0
    counts.set(series.of, nth + 1)
    const slot = several ? (slots[series.of] ?? series.of + 1) : at + 1
    const dash = several && (perRun.get(series.of) ?? 1) > 1 ? (DASHES[nth % 4] ?? []) : look(slot).dash
    const run = plots.plots[series.of]?.run ?? ''
    const short = several ? series.name.replace(run, names[series.of] ?? run) : series.name
    // Bars have no dashes: a run's further columns are paler.
    const paler = several && plots.plots[series.of]?.view.mark === 'bars'
    return { name: short, slot, dash, tone: paler ? Math.max(0.25, 1 - 0.35 * nth) : 1 }
  })
}

/** How many places a log scale cannot show. */
export function leftOut({ plots }: Drawn): number {
  const view = plots.plots[0]?.view
  if (!view || view.mark === 'matrix') return 0
  return plots.series.reduce(
    (sum, series) => sum + series.y.filter((y, at) => !drawable(series, y, at, view)).length,
    0,
  )
}

const drawable = (series: Row, y: number, at: number, view: { x_scale: string; y_scale: string }) =>
  !(view.y_scale === 'log' && y <= 0) &&
  !(view.x_scale === 'log' && typeof series.x[at] === 'number' && (series.x[at] as number) <= 0)

export function isEmpty({ plots }: Drawn): boolean {
  if (plots.plots[0]?.view.mark === 'matrix') return plots.plots.every((plot) => !plot.matrix?.names.length)
  return plots.series.every((series) => series.y.length === 0)
}

type Style = { text: string; quiet: string; line: string; surface: string; sunken: string; strong: string }

function style(): Style {
  return {
    text: resolved('var(--ink)'),
    quiet: resolved('var(--ink2)'),
    line: resolved('var(--line)'),
    surface: resolved('var(--surface)'),
    sunken: resolved('var(--sunken)'),
    strong: resolved('var(--s1)'),
  }
}

const FONT = '"Source Sans 3 Variable", "Source Sans 3", sans-serif'

function base(tones: Style, title: string | null): EChartsCoreOption {
  return {
    animation: false,
    backgroundColor: title === null ? 'transparent' : tones.surface,
    textStyle: { fontFamily: FONT, fontSize: 11, color: tones.quiet },
    ...(title === null
      ? {}
      : {
          title: {
            text: title,
            left: 12,
            top: 8,
            textStyle: {
              fontSize: 14,
              fontWeight: 600,
              color: tones.text,
              fontFamily: FONT,
              width: 900,
              overflow: 'truncate',
            },
          },
        }),
  }
}

const tip = (tones: Style) => ({
  renderMode: 'richText' as const,
  confine: true,
  backgroundColor: tones.surface,
  borderColor: tones.quiet,
  borderWidth: 1,
  padding: [4, 8],
  textStyle: { color: tones.text, fontSize: 11, fontFamily: FONT },
})

function axis(
  tones: Style,
  name: string,
  scale: string,
  category: string[] | null,
  along: 'x' | 'y',
  fromZero = false,
) {
  return {
    type: category ? ('category' as const) : scale === 'log' ? ('log' as const) : ('value' as const),
    ...(category ? { data: category } : { scale: !fromZero }),
    name,
    nameLocation: 'middle' as const,
    nameGap: along === 'x' ? 26 : 44,
    nameTextStyle: { color: tones.quiet, fontSize: 11 },
    axisLine: { show: true, lineStyle: { color: tones.quiet } },
    axisTick: { show: !category },
    axisLabel: {
      color: tones.quiet,
      fontSize: 11,
      hideOverlap: true,
      ...(category
        ? {
            width: 90,
            overflow: 'truncate' as const,
            rotate: along === 'x' && category.length > 8 ? 40 : 0,
            interval: Math.ceil(category.length / LABELS) - 1,
          }
        : {}),
    },
    splitLine: { show: !category, lineStyle: { color: tones.line } },
  }
}

export function optionOf(drawn: Drawn, title: string | null = null): EChartsCoreOption {
  const view = drawn.plots.plots[0]?.view
  if (!view) return {}
  return view.mark === 'matrix' ? matrixOption(drawn, 0, title) : seriesOption(drawn, title)
}

function seriesOption(drawn: Drawn, title: string | null): EChartsCoreOption {
  const tones = style()
  const view = drawn.plots.plots[0]!.view
  const legend = legendOf(drawn)
  const places = drawn.plots.places.length ? drawn.plots.places : null
  const series = drawn.plots.series.slice(0, DRAWN_SERIES).map((one, at) => {
    const { slot, dash, name, tone } = legend[at]!
    const colour = resolved(look(slot).colour)
    const points = one.y.flatMap((y, where) =>
      drawable(one, y, where, view)
        ? [[places ? String(one.x[where]) : (plain(one.x[where]) as number), y]]
        : [],
    )
    const common = { name, data: points, itemStyle: { color: colour }, cursor: 'default' }
    if (view.mark === 'points')
      return {
        ...common,
        type: 'scatter' as const,
        symbolSize: 5,
        itemStyle: { color: colour, opacity: 0.6 },
        large: points.length > 5000,
      }
    if (view.mark === 'bars')
      return { ...common, itemStyle: { color: colour, opacity: tone }, type: 'bar' as const, barMaxWidth: 40 }
    return {
      ...common,
      type: 'line' as const,
      showSymbol: points.length < 3,
      symbolSize: 5,
      step: view.mark === 'steps' ? ('end' as const) : false,
      lineStyle: { color: colour, width: 1.8, type: dash.length ? dash : ('solid' as const) },
    }
  })
  const all: object[] = [...series]
  if (view.diagonal && !places) all.push(diagonal(drawn, tones))
  return {
    ...base(tones, title),
    grid: {
      left: 58,
      right: 18,
      top: title === null ? 10 : 64,
      bottom: places && places.length > 8 ? 76 : 44,
    },
    ...(title !== null && legend.length > 1
      ? {
          legend: {
            top: 32,
            left: 12,
            right: 12,
            type: 'plain',
            itemHeight: 8,
            textStyle: { color: tones.quiet, fontSize: 11 },
            data: legend.slice(0, 20).map((one) => one.name),
          },
        }
      : {}),
    tooltip: {
      ...tip(tones),
      trigger: view.mark === 'points' || series.length > 12 ? 'item' : 'axis',
      valueFormatter: (value: unknown) => show(Array.isArray(value) ? value[1] : value),
      axisPointer: { lineStyle: { color: tones.quiet } },
    },
    xAxis: axis(tones, view.x_name || view.x, view.x_scale, places, 'x'),
    yAxis: axis(
      tones,
      view.y_name || (view.y.length === 1 ? view.y[0]! : ''),
      view.y_scale,
      null,
      'y',
      view.mark === 'bars',
    ),
    series: all,
  }
}

function diagonal(drawn: Drawn, tones: Style) {
  let low = Infinity
  let high = -Infinity
  for (const series of drawn.plots.series)
    series.y.forEach((y, at) => {
      const x = series.x[at]
      if (typeof x !== 'number') return
      low = Math.min(low, x, y)
      high = Math.max(high, x, y)
    })
  return {
    type: 'line' as const,
    silent: true,
    showSymbol: false,
    tooltip: { show: false },
    data:
      low <= high
        ? [
            [low, low],
            [high, high],
          ]
        : [],
    lineStyle: { color: tones.quiet, width: 1, type: [3, 3] },
    z: 1,
  }
}

const highest = (drawn: Drawn) =>
  drawn.plots.plots.reduce(
    (most, plot) => (plot.matrix?.cells ?? []).reduce((high, row) => Math.max(high, ...row), most),
    0,
  )

/** A matrix of one of the plots; all have one scale, so that equal tones are equal numbers. */
export function matrixOption(drawn: Drawn, which: number, title: string | null): EChartsCoreOption {
  const tones = style()
  const plot = drawn.plots.plots[which]!
  const { names, cells } = plot.matrix ?? { names: [], cells: [] }
  const most = highest(drawn)
  const few = names.length <= CELLS_WRITTEN
  const slanted = names.length > 8
  const written = (cell: number) =>
    plot.view.share === 'count' ? show(cell) : `${Math.round(cell * 1000) / 10} %`
  // Of many classes most cells are empty: they are the ground, and only the others are drawn.
  const data: object[] = cells.flatMap((row, down) =>
    row.flatMap((cell, across): object[] =>
      few
        ? [{ value: [across, down, cell], label: { color: cell > most * 0.55 ? tones.surface : tones.text } }]
        : cell !== 0
          ? [[across, down, cell]]
          : [],
    ),
  )
  return {
    ...base(tones, title),
    grid: {
      left: few ? 96 : 76,
      right: 12,
      top: title === null ? 10 : 44,
      bottom: slanted ? 84 : 44,
      ...(few ? {} : { show: true, backgroundColor: tones.sunken, borderColor: tones.sunken }),
    },
    tooltip: {
      ...tip(tones),
      formatter: (found: { value: number[] }) => {
        const [across = 0, down = 0, cell = 0] = found.value
        return `truth ${names[down]}\nprediction ${names[across]}\n${written(cell)}`
      },
    },
    xAxis: {
      ...axis(tones, plot.view.x_name || 'prediction', 'linear', names, 'x'),
      nameGap: slanted ? 66 : 26,
      axisLine: { show: false },
    },
    yAxis: {
      ...axis(tones, plot.view.y_name || 'truth', 'linear', names, 'y'),
      inverse: true,
      axisLine: { show: false },
      nameGap: few ? 80 : 60,
    },
    visualMap: { show: false, min: 0, max: most || 1, inRange: { color: [tones.sunken, tones.strong] } },
    series: [
      {
        type: 'heatmap' as const,
        data,
        // All at once: what is drawn in parts stops halfway when the page lays itself out meanwhile.
        progressive: 0,
        label: {
          show: few,
          fontSize: 11,
          // Nothing stands in empty cells of many, so that the others are seen.
          formatter: ({ value: [, , cell = 0] }: { value: number[] }) =>
            slanted && cell === 0 ? '' : written(cell),
        },
        itemStyle: few ? { borderColor: tones.surface, borderWidth: 1 } : {},
      },
    ],
  }
}
