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
}

type Clicked = { data?: { at?: number } }
type Selected = { parallelAxisId?: string; intervals?: [number, number][] }
type Told = Pick<Props, 'onOpen' | 'onBrush'>

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

export function RunsChart({ option, name, height, onOpen, brushed, onBrush }: Props) {
  const told = useRef<Told>({ onOpen, onBrush })
  useEffect(() => {
    told.current = { onOpen, onBrush }
  }, [onOpen, onBrush])
  const prepare = useCallback(
    (chart: EChartsType) => {
      chart.on('click', (event) => {
        const at = (event as Clicked).data?.at
        if (at !== undefined) told.current.onOpen(at)
      })
      if (brushed) followBrushes(chart, brushed, told)
    },
    [brushed],
  )
  const holder = useChart(engine, option, prepare)
  return (
    <div ref={holder} role="img" aria-label={name} style={{ height }} className="w-full cursor-default" />
  )
}
