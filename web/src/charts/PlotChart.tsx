/** A plot on screen; what draws it is loaded when it is first needed. */
import { useEffect, useRef } from 'react'
import type { EChartsCoreOption, EChartsType } from 'echarts/core'
import { useTheme } from '../parts/theme'

type Props = { option: () => EChartsCoreOption; name: string; height: number }

export function PlotChart({ option, name, height }: Props) {
  const holder = useRef<HTMLDivElement>(null)
  const theme = useTheme()
  useEffect(() => {
    const element = holder.current
    if (!element) return
    let chart: EChartsType | null = null
    let gone = false
    const watch = new ResizeObserver(() => chart?.resize())
    void import('./engine').then(({ init }) => {
      if (gone) return
      chart = init(element)
      chart.setOption(option())
      element.dataset.drawn = 'true'
      watch.observe(element)
    })
    return () => {
      gone = true
      watch.disconnect()
      chart?.dispose()
      delete element.dataset.drawn
    }
  }, [option, theme])
  return <div ref={holder} role="img" aria-label={name} style={{ height }} className="w-full" />
}
