/** A chart of runs: a mark names its run and opens it; brushes on parallel axes are told and set. */
import { useCallback, useEffect, useRef } from 'react'
import type { EChartsCoreOption, EChartsType } from 'echarts/core'
import { useChart } from './useChart'

export type Intervals = Map<string, [number, number][]>

type Props = {
  option: () => EChartsCoreOption
  name: string
  height: number
  onOpen: (at: number) => void
  /** Of parallel axes: what is brushed, and what was brushed by hand. */
  brushed?: Intervals
  onBrush?: (axis: string, intervals: [number, number][]) => void
  /** Of a cloud: a field was drawn with the mouse, given by its ends on x and y. */
  onField?: (x: [number, number], y: [number, number]) => void
}

type Clicked = { data?: { at?: number } }
type Selected = { parallelAxisId?: string; intervals?: [number, number][] }
type Told = Pick<Props, 'onOpen' | 'onBrush' | 'onField'>

const engine = () => import('./engineOfRuns')

/** Set the brushes of the query, then listen to those of the hand: only when it lets go, since lines follow by themselves. */
function followBrushes(chart: EChartsType, brushed: Intervals, told: { current: Told }) {
  let setting = true
  for (const [axis, intervals] of brushed)
    chart.dispatchAction({ type: 'axisAreaSelect', parallelAxisId: axis, intervals })
  setting = false
  const moved = new Map<string, [number, number][]>()
  chart.on('axisareaselected', (event) => {
    const { parallelAxisId, intervals } = event as Selected
    if (!setting && parallelAxisId !== undefined) moved.set(parallelAxisId, intervals ?? [])
  })
  const released = () => {
    for (const [axis, intervals] of moved) told.current.onBrush?.(axis, intervals)
    moved.clear()
  }
  chart.getZr().on('mouseup', () => void setTimeout(released))
  chart.getZr().on('globalout', () => void setTimeout(released))
}

/** So far the mouse must go before it draws a field. */
const DRAWN_FROM = 5
type Corner = [number, number]

const ordered = (a: number, b: number): [number, number] => (a < b ? [a, b] : [b, a])

/** Draw a field with the mouse over the plain of the chart; marks keep their click. */
function followField(chart: EChartsType, frame: HTMLElement, told: { current: Told }) {
  const all = chart.getZr()
  const grid = { xAxisIndex: 0, yAxisIndex: 0 }
  let from: Corner | null = null
  const show = (to: Corner | null) => {
    frame.hidden = to === null
    if (!from || !to) return
    const [[left, right], [top, bottom]] = [ordered(from[0], to[0]), ordered(from[1], to[1])]
    Object.assign(frame.style, { left: `${left}px`, top: `${top}px`, width: `${right - left}px`, height: `${bottom - top}px` }) // prettier-ignore
  }
  all.on('mousedown', ({ offsetX, offsetY, target }) => {
    from = !target && chart.containPixel({ gridIndex: 0 }, [offsetX, offsetY]) ? [offsetX, offsetY] : null
  })
  all.on('mousemove', ({ offsetX, offsetY }) => {
    if (from) show([offsetX, offsetY])
  })
  all.on('globalout', () => {
    from = null
    show(null)
  })
  all.on('mouseup', ({ offsetX, offsetY }) => {
    const began = from
    from = null
    show(null)
    if (!began || Math.hypot(offsetX - began[0], offsetY - began[1]) < DRAWN_FROM) return
    const ends = [began, [offsetX, offsetY]].map((corner) => chart.convertFromPixel(grid, corner))
    const [[x1 = 0, y1 = 0] = [], [x2 = 0, y2 = 0] = []] = ends
    told.current.onField?.(ordered(x1, x2), ordered(y1, y2))
  })
}

export function RunsChart({ option, name, height, onOpen, brushed, onBrush, onField }: Props) {
  const told = useRef<Told>({ onOpen, onBrush, onField })
  const frame = useRef<HTMLDivElement>(null)
  const draws = onField !== undefined
  useEffect(() => {
    told.current = { onOpen, onBrush, onField }
  }, [onOpen, onBrush, onField])
  const prepare = useCallback(
    (chart: EChartsType) => {
      chart.on('click', (event) => {
        const at = (event as Clicked).data?.at
        if (at !== undefined) told.current.onOpen(at)
      })
      if (brushed) followBrushes(chart, brushed, told)
      if (draws && frame.current) followField(chart, frame.current, told)
    },
    [brushed, draws],
  )
  const holder = useChart(engine, option, prepare)
  return (
    <div className="relative" style={{ height }}>
      <div ref={holder} role="img" aria-label={name} className="h-full w-full cursor-default" />
      <div
        ref={frame}
        hidden
        className="pointer-events-none absolute border border-(--accent) bg-(--accent) opacity-20"
      />
    </div>
  )
}
