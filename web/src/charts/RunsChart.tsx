/** A chart of runs: a mark names its run and opens it; brushes on parallel axes are told and set. */
import { useEffect, useRef } from 'react'
import type { EChartsCoreOption, EChartsType } from 'echarts/core'
import { useTheme } from '../parts/theme'

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

export function RunsChart({ option, name, height, onOpen, brushed, onBrush }: Props) {
  const holder = useRef<HTMLDivElement>(null)
  const theme = useTheme()
  const told = useRef({ onOpen, onBrush })
  useEffect(() => {
    told.current = { onOpen, onBrush }
  }, [onOpen, onBrush])
  useEffect(() => {
    const element = holder.current
    if (!element) return
    let chart: EChartsType | null = null
    let gone = false
    const watch = new ResizeObserver(() => chart?.resize())
    void import('./engineOfRuns').then(({ init }) => {
      if (gone) return
      chart = init(element)
      chart.setOption(option())
      let setting = true
      for (const [axis, intervals] of brushed ?? [])
        chart.dispatchAction({ type: 'axisAreaSelect', parallelAxisId: axis, intervals })
      setting = false
      chart.on('click', (event) => {
        const at = (event as Clicked).data?.at
        if (at !== undefined) told.current.onOpen(at)
      })
      // Only when the hand lets go: while it moves, the lines follow by themselves.
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
      element.dataset.drawn = 'true'
      watch.observe(element)
    })
    return () => {
      gone = true
      watch.disconnect()
      chart?.dispose()
      delete element.dataset.drawn
    }
  }, [option, theme, brushed])
  return (
    <div ref={holder} role="img" aria-label={name} style={{ height }} className="w-full cursor-default" />
  )
}
