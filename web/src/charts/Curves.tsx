/** Metric curves of several runs: one wide chart, drawn from data that is reduced already. */
import { useEffect, useMemo, useRef, useState } from 'react'
import uPlot from 'uplot'
import { look, resolved } from '../parts/looks'
import { useTheme } from '../parts/theme'
import { show } from '../parts/values'
import { arrange, robustRange, smoothed, type Axis, type Range, type Table, type Zoom } from './arrange'

export type Series = {
  name: string
  label: string
  slot: number
  status: string
  steps: number[]
  times: number[]
  values: (number | null)[]
  against?: (number | null)[] | null
  /** An edge of the band around the curve of the same name: what lies between both is tinted. */
  edge?: 'high' | 'low'
}

type Props = {
  series: Series[]
  title: string
  height: number
  axis?: Axis
  log?: boolean
  smoothing?: number
  bound?: number | null
  zoom?: Zoom | null
  onZoom?: (zoom: Zoom | null) => void
  onOpen?: (name: string) => void
  onDrawn?: (canvas: HTMLCanvasElement | null) => void
  /** Whether the points have not come yet. */
  waiting?: boolean
}

const LABEL_ROOM = 132

export function Curves({
  series,
  title,
  height,
  axis = 'step',
  log = false,
  smoothing = 0,
  bound,
  zoom = null,
  onZoom,
  onOpen,
  onDrawn,
  waiting = false,
}: Props) {
  const holder = useRef<HTMLDivElement>(null)
  const [width, setWidth] = useState(0)
  const [under, setUnder] = useState<{ name: string; text: string } | null>(null)
  const theme = useTheme()
  useEffect(() => {
    const element = holder.current
    if (!element) return
    const watch = new ResizeObserver(([entry]) => setWidth(Math.floor(entry?.contentRect.width ?? 0)))
    watch.observe(element)
    return () => watch.disconnect()
  }, [])
  // Selected lines are drawn last, on top of the quiet ones.
  const ordered = useMemo(() => [...series].sort((a, b) => Math.sign(a.slot) - Math.sign(b.slot)), [series])
  const table = useMemo(
    () => arrange(ordered, axis, log, Math.max(200, width * 2)),
    [ordered, axis, log, width],
  )
  const range = useMemo(() => robustRange(series), [series])
  const told = useRef({ onOpen, onZoom, onDrawn })
  useEffect(() => {
    told.current = { onOpen, onZoom, onDrawn }
  }, [onOpen, onZoom, onDrawn])
  const [from, to] = zoom ?? [null, null]
  useEffect(() => {
    const element = holder.current
    if (!element || width < 50 || table.length < 2) return
    const chart = new uPlot(
      options({
        ordered,
        width,
        height,
        axis,
        log,
        smoothing,
        bound,
        theme,
        range,
        zoom: from !== null && to !== null ? [from, to] : null,
        tell: setUnder,
        zoomTo: (stretch) => told.current.onZoom?.(stretch),
      }),
      withSmooth(table, ordered, smoothing),
      element,
    )
    const click = () => {
      const name = chart.root.dataset.under
      if (name) told.current.onOpen?.(name)
    }
    chart.over.addEventListener('click', click)
    chart.over.addEventListener('dblclick', () => told.current.onZoom?.(null))
    told.current.onDrawn?.(chart.ctx.canvas)
    return () => {
      told.current.onDrawn?.(null)
      chart.destroy()
    }
  }, [ordered, table, width, height, axis, log, smoothing, bound, theme, range, from, to])
  const empty = series.every((one) => one.values.length === 0)
  const noNumber = !empty && series.every((one) => one.values.every((value) => value === null))
  return (
    <figure className="relative m-0" aria-label={title}>
      <div ref={holder} style={{ height }} role="img" aria-label={`${title}, ${series.length} curves`} />
      {(empty || noNumber) && (
        <p className="pointer-events-none absolute inset-0 pt-8 text-center text-xs text-ink3">
          {waiting
            ? 'Reading …'
            : empty
              ? 'No points of this metric yet.'
              : 'No point of it is a finite number.'}
        </p>
      )}
      <figcaption
        className="pointer-events-none absolute right-0 bottom-6 bg-surface px-1 text-2xs text-ink2"
        aria-hidden
      >
        {under?.text ?? (range?.outside ? `${range.outside} points lie outside the scale` : '')}
      </figcaption>
    </figure>
  )
}

/** With smoothing, selected series come twice: the raw line faintly, then the smooth one. */
function withSmooth(table: Table, ordered: Series[], smoothing: number): uPlot.AlignedData {
  if (!smoothing) return table as uPlot.AlignedData
  const columns = [...table]
  ordered.forEach((one, at) => {
    const column = table[at + 1]
    if (one.slot > 0 && column && !one.edge) columns.push(smoothed(column, smoothing))
  })
  return columns as uPlot.AlignedData
}

type Wanted = {
  ordered: Series[]
  width: number
  height: number
  axis: Axis
  log: boolean
  smoothing: number
  bound: number | null | undefined
  theme: string
  range: Range | null
  zoom: Zoom | null
  tell: (under: { name: string; text: string } | null) => void
  zoomTo: (zoom: Zoom) => void
}

function options(wanted: Wanted): uPlot.Options {
  const { ordered, width, height, axis, log, smoothing, tell } = wanted
  const dots = axis === 'metric'
  const lines = ordered.map((one): uPlot.Series => line(one, smoothing > 0 && one.slot > 0, dots))
  if (smoothing) for (const one of ordered) if (one.slot > 0 && !one.edge) lines.push(line(one, false, dots))
  const font = '11px "Source Sans 3 Variable", sans-serif'
  const quiet = resolved('var(--ink3)')
  const grid = { stroke: resolved('var(--line)'), width: 1 }
  const room = ordered.some((one) => one.slot > 0) ? LABEL_ROOM : 16
  return {
    width,
    height,
    padding: [8, room, 0, 0],
    legend: { show: false },
    cursor: { focus: { prox: 18 }, points: { show: false }, drag: { x: true, y: false, setScale: false } },
    focus: { alpha: 1 },
    scales: {
      // A stretch that is zoomed to is part of the address, so the chart never changes it by itself.
      x: { time: axis === 'clock', range: wanted.zoom ? () => wanted.zoom as Zoom : undefined },
      y: { distr: log ? 3 : 1, range: log ? undefined : padded(wanted.range) },
    },
    axes: [
      { stroke: quiet, font, size: 24, grid: { show: false }, ticks: { show: false }, values: xValues(axis) },
      { stroke: quiet, font, size: 46, grid, ticks: { show: false } },
    ],
    series: [{}, ...lines],
    bands: bandsOf(ordered),
    hooks: {
      setSeries: [
        (chart, index) => {
          const one = index === null ? undefined : ordered[(index - 1) % ordered.length]
          if (!one) delete chart.root.dataset.under
          else chart.root.dataset.under = one.name
          tell(one ? { name: one.name, text: readout(chart, one, index as number) } : null)
        },
      ],
      setSelect: [
        (chart) => {
          const { left, width: wide } = chart.select
          if (wide < 4) return
          wanted.zoomTo([chart.posToVal(left, 'x'), chart.posToVal(left + wide, 'x')])
        },
      ],
      draw: [(chart) => drawBound(chart, wanted.bound), (chart) => dots || drawEnds(chart, ordered, font)],
    },
  }
}

/** What lies between the edges of a group, tinted in its colour. */
function bandsOf(ordered: Series[]): uPlot.Band[] {
  return ordered.flatMap((one, high) => {
    const low = ordered.findIndex((other) => other.edge === 'low' && other.name === one.name)
    if (one.edge !== 'high' || low < 0) return []
    return [{ series: [high + 1, low + 1], fill: resolved(look(one.slot).colour) + '26' }]
  })
}

function line(one: Series, faint: boolean, dots: boolean): uPlot.Series {
  const { colour, dash } = look(one.slot)
  if (one.edge) return { stroke: 'transparent', width: 0, points: { show: false } }
  if (dots) {
    const stroke = resolved(colour)
    return { stroke, paths: () => null, points: { show: true, size: one.slot > 0 ? 5 : 4, fill: stroke } }
  }
  return {
    stroke: resolved(colour) + (faint ? '55' : ''),
    width: one.slot > 0 && !faint ? 1.8 : 1,
    dash: faint ? undefined : dash,
    points: { show: one.values.length < 2, size: 4 },
    spanGaps: false,
    alpha: one.slot > 0 ? 1 : 0.75,
  }
}

/** The scale fits the data; far outliers are cut, and said to be. */
const padded =
  (cut: Range | null) =>
  (_: uPlot, low: number, high: number): [number, number] => {
    if (low === null || high === null) return [0, 1]
    const from = cut ? Math.max(low, cut.low) : low
    const to = cut ? Math.min(high, cut.high) : high
    const room = (to - from || Math.abs(to) || 1) * 0.06
    return [from - room, to + room]
  }

function xValues(axis: Axis): uPlot.Axis['values'] {
  if (axis !== 'elapsed') return undefined
  return (_, splits) =>
    splits.map((at) => (at >= 120 ? `${+(at / 60).toFixed(1)} min` : `${+at.toFixed(2)} s`))
}

function readout(chart: uPlot, one: Series, index: number): string {
  const at = chart.cursor.idx
  const value = at === null || at === undefined ? undefined : chart.data[index]?.[at]
  return value === undefined || value === null ? one.label : `${one.label}  ${show(value)}`
}

function drawBound(chart: uPlot, bound: number | null | undefined) {
  if (bound === null || bound === undefined) return
  const y = Math.round(chart.valToPos(bound, 'y', true)) + 0.5
  if (y < chart.bbox.top || y > chart.bbox.top + chart.bbox.height) return
  const { ctx, bbox } = chart
  ctx.save()
  ctx.strokeStyle = resolved('var(--ink3)')
  ctx.setLineDash([1 * devicePixelRatio, 3 * devicePixelRatio])
  ctx.beginPath()
  ctx.moveTo(bbox.left, y)
  ctx.lineTo(bbox.left + bbox.width, y)
  ctx.stroke()
  ctx.restore()
}

/** Names at the ends of selected lines, moved apart; a dot where a run goes on, a cross where NaN began. */
function drawEnds(chart: uPlot, ordered: Series[], font: string) {
  const ratio = devicePixelRatio
  const { ctx, bbox } = chart
  const ends = ordered.flatMap((one, at) => {
    if (one.slot === 0 || one.edge) return []
    const column = chart.data[at + 1] ?? []
    let last = column.length - 1
    // Of a stretch that is zoomed to, the end is what is seen of it.
    const edge = chart.scales.x?.max ?? Infinity
    while (last >= 0 && (typeof column[last] !== 'number' || (chart.data[0][last] as number) > edge)) last--
    if (last < 0) return []
    const y = chart.valToPos(column[last] as number, 'y', true)
    const x = chart.valToPos(chart.data[0][last] as number, 'x', true)
    const whole = last === column.length - 1 || (chart.data[0].at(-1) as number) <= edge
    const broken = whole && one.values[one.values.length - 1] === null
    return [
      { one, x, y, at: Math.min(Math.max(y, bbox.top), bbox.top + bbox.height), broken, value: column[last] },
    ]
  })
  ends.sort((a, b) => a.at - b.at)
  for (let round = 0; round < 40; round++) {
    ends.forEach((end, index) => {
      const before = ends[index - 1]
      const overlap = before ? before.at + 14 * ratio - end.at : 0
      if (before && overlap > 0) {
        end.at += overlap / 2
        before.at -= overlap / 2
      }
    })
  }
  ctx.save()
  ctx.font = font.replace('11px', `${11 * ratio}px`)
  ctx.textBaseline = 'middle'
  ctx.textAlign = 'left'
  const right = bbox.left + bbox.width
  for (const { one, x, y, at, broken, value } of ends) {
    const { colour, dash } = look(one.slot)
    ctx.strokeStyle = ctx.fillStyle = resolved(colour)
    ctx.lineWidth = 1.6 * ratio
    if (one.status === 'running' && !broken) {
      ctx.beginPath()
      ctx.arc(x, y, 3 * ratio, 0, 7)
      ctx.fill()
    }
    // A line that ends early is named where it ends; the others at the edge, joined by a short lead.
    const early = x < right - 60 * ratio
    if (!early) {
      ctx.setLineDash(dash.map((part) => part * ratio))
      ctx.beginPath()
      ctx.moveTo(Math.min(x + 3 * ratio, right), y)
      ctx.lineTo(right + 8 * ratio, at)
      ctx.lineTo(right + 22 * ratio, at)
      ctx.stroke()
    }
    ctx.setLineDash([])
    if (broken) {
      ctx.strokeStyle = resolved('var(--bad)')
      ctx.beginPath()
      for (const side of [-1, 1]) {
        ctx.moveTo(x - 3 * ratio, y - 3 * ratio * side)
        ctx.lineTo(x + 3 * ratio, y + 3 * ratio * side)
      }
      ctx.stroke()
    }
    ctx.fillStyle = resolved('var(--ink)')
    const text = `${one.label} ${broken ? 'NaN' : show(value)}`
    if (early) {
      ctx.strokeStyle = resolved('var(--surface)')
      ctx.lineWidth = 4 * ratio
      ctx.strokeText(text, x + 8 * ratio, at)
    }
    ctx.fillText(text, early ? x + 8 * ratio : right + 27 * ratio, at, (LABEL_ROOM - 28) * ratio)
  }
  ctx.restore()
}
