/** The lens: curves of exactly the rows below. */
import { useMemo } from 'react'
import { useParams } from 'react-router'
import type { RunPage } from '../../api/client'
import { useCurves } from '../../api/queries'
import { Curves } from '../../charts/Curves'
import { ChartChoices, useChartChoices } from '../../parts/ChartChoices'
import { useAddress, type Selection } from '../../parts/selection'
import { keysOf } from './columns'

const DRAWN = 100
const HEIGHT = 190

export function Lens({
  page,
  selection,
  onOpen,
}: {
  page: RunPage
  selection: Selection
  onOpen: (name: string) => void
}) {
  const { project = '' } = useParams()
  const { params, change } = useAddress()
  const choices = useChartChoices()
  const metrics = keysOf(page, true)
  const asked = params.get('y')
  const metric = metrics.find((column) => column.name === asked) ?? metrics[0]
  const name = metric?.name
  const runs = useMemo(() => {
    const having = page.rows.filter((run) => name !== undefined && run.metrics[name])
    const chosen = having.filter((run) => selection.has(String(run.number)))
    const others = having.filter((run) => !selection.has(String(run.number)))
    return [...chosen, ...others].slice(0, DRAWN)
  }, [page.rows, name, selection])
  const references = useMemo(() => runs.map((run) => run.reference).sort(), [runs])
  const curves = useCurves(project, name, references, 600)
  const series = useMemo(
    () =>
      (curves.data?.curves ?? []).map((curve) => {
        const number = curve.run.split('/')[1] ?? ''
        return { ...curve, name: curve.run, label: number, slot: selection.get(number) ?? 0 }
      }),
    [curves.data, selection],
  )
  if (!metric) return null
  return (
    <section aria-label="Lens" className="shrink-0 border-y border-line px-6">
      <div className="flex h-[30px] items-center gap-4 border-b border-line text-xs text-ink2">
        <h2 className="strong text-sm text-ink">Curves</h2>
        <label className="flex items-center gap-1">
          y
          <select
            aria-label="y axis"
            className="field py-0 text-xs"
            value={metric.name}
            onChange={(event) => change('y', event.target.value)}
          >
            {metrics.map((column) => (
              <option key={column.name}>{column.name}</option>
            ))}
          </select>
        </label>
        <ChartChoices choices={choices} />
        <span className="ml-auto text-ink3">
          {references.length} of {page.rows.length} rows have it; drag to zoom, double-click to reset
        </span>
      </div>
      <Curves
        series={series}
        title={`${metric.name} by ${choices.axis}`}
        height={HEIGHT}
        bound={metric.goal?.bound}
        onOpen={onOpen}
        {...choices}
      />
    </section>
  )
}
