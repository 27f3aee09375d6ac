/** The same chart once for each value of a column, side by side on the same scales. */
import { useCallback } from 'react'
import type { EChartsCoreOption } from 'echarts/core'
import type { Drawn } from '../../../api/comparing'
import { RunsChart } from '../../../charts/RunsChart'
import { plural } from '../../../parts/values'
import type { Panel, Panels } from './multiples'

const LOWEST = 170
const BESIDE = 4

type Props = {
  by: string
  what: string
  found: Panels
  height: number
  optionOf: (part: Drawn) => EChartsCoreOption
  onOpen: (reference: string) => void
}

export function Multiples({ by, what, found, height, optionOf, onOpen }: Props) {
  const { panels, leftOut, without } = found
  const beside = Math.min(BESIDE, panels.length)
  const rows = Math.ceil(panels.length / beside)
  const each = Math.max(LOWEST, Math.floor(height / rows) - 20)
  return (
    <div
      className="overflow-auto"
      style={{ maxHeight: Math.max(height, LOWEST + 20) * 1.6 }}
      tabIndex={0}
      aria-label={`${what}, one chart per ${by}`}
    >
      <div className="grid" style={{ gridTemplateColumns: `repeat(${beside}, minmax(0, 1fr))` }}>
        {panels.map((panel) => (
          <One
            key={panel.name}
            by={by}
            what={what}
            panel={panel}
            height={each}
            optionOf={optionOf}
            onOpen={onOpen}
          />
        ))}
      </div>
      {(leftOut > 0 || without > 0) && (
        <p className="text-xs text-ink3">
          {leftOut > 0 && `${plural(leftOut, 'value')} of ${by} more have no chart. `}
          {without > 0 && `${plural(without, 'run')} without ${by}.`}
        </p>
      )}
    </div>
  )
}

function One({ by, what, panel, height, optionOf, onOpen }: Omit<Props, 'found'> & { panel: Panel }) {
  const option = useCallback(() => optionOf(panel.drawn), [optionOf, panel.drawn])
  const open = (at: number) => {
    const run = panel.drawn.runs[at]
    if (run) onOpen(run.reference)
  }
  const title = `${by} ${panel.name}`
  return (
    <figure className="m-0 min-w-0">
      <figcaption className="truncate pl-[62px] text-xs text-ink2" title={title}>
        {title} <span className="text-ink3">· {plural(panel.drawn.runs.length, 'run')}</span>
      </figcaption>
      <RunsChart option={option} name={`${what}, ${title}`} height={height} onOpen={open} />
    </figure>
  )
}
