/** A plot on screen; what draws it is loaded when it is first needed. */
import type { EChartsCoreOption } from 'echarts/core'
import { useChart } from './useChart'

type Props = { option: () => EChartsCoreOption; name: string; height: number }

const engine = () => import('./engine')

export function PlotChart({ option, name, height }: Props) {
  const holder = useChart(engine, option)
  return <div ref={holder} role="img" aria-label={name} style={{ height }} className="w-full" />
}
