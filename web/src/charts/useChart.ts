/** A chart of the library in an element: made when the library has come, made anew with its option or the theme. */
import { useEffect, useRef } from 'react'
import type { EChartsCoreOption, EChartsType, init } from 'echarts/core'
import { useTheme } from '../parts/theme'

type Engine = { init: typeof init }

/** `prepare` gets the chart once its option stands; both it and `engine` must stay the same while the chart does. */
export function useChart(
  engine: () => Promise<Engine>,
  option: () => EChartsCoreOption,
  prepare?: (chart: EChartsType) => void,
) {
  const holder = useRef<HTMLDivElement>(null)
  const theme = useTheme()
  useEffect(() => {
    const element = holder.current
    if (!element) return
    let chart: EChartsType | null = null
    let gone = false
    const watch = new ResizeObserver(() => chart?.resize())
    void engine().then(({ init }) => {
      if (gone) return
      chart = init(element)
      chart.setOption(option())
      prepare?.(chart)
      element.dataset.drawn = 'true'
      watch.observe(element)
    })
    return () => {
      gone = true
      watch.disconnect()
      chart?.dispose()
      delete element.dataset.drawn
    }
  }, [engine, option, prepare, theme])
  return holder
}
