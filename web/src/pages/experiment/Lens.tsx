/** The lens: curves of exactly the rows below. */
import { useMemo, useRef } from 'react'
import { useParams } from 'react-router'
import type { RunPage } from '../../api/client'
import { useGroupCurves } from '../../api/comparing'
import { banded } from '../../charts/bands'
import type { Series } from '../../charts/Curves'
import { saveCsv, savePng, saveSvg } from '../../charts/save'
import { ChartChoices, SaveMenu, useChartChoices } from '../../parts/ChartChoices'
import { useAddress, type Selection } from '../../parts/selection'
import { ChosenCurves } from '../../parts/ChosenCurves'
import { useZoomedCurves } from '../../parts/useSeries'
import { LensTitle } from './LensTitle'
import { keysOf } from './columns'

/** A group bears the number and the look of the first of its runs; selected ones come first. */
function lookIn(selection: Selection) {
  return (reference: string) => {
    const number = reference.split('/')[1] ?? ''
    return { label: number, slot: selection.get(number) ?? 0 }
  }
}

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
  const canvas = useRef<HTMLCanvasElement | null>(null)
  const metrics = keysOf(page, true)
  const asked = params.get('y')
  const metric = metrics.find((column) => column.name === asked) ?? metrics[0]
  const name = metric?.name
  const runs = useMemo(() => {
    const having = page.rows.filter(
      (run) =>
        name !== undefined &&
        run.metrics[name] &&
        (choices.fits(String(run.number)) || (!!run.name && choices.fits(run.name))),
    )
    const chosen = having.filter((run) => selection.has(String(run.number)))
    const others = having.filter((run) => !selection.has(String(run.number)))
    return [...chosen, ...others].slice(0, DRAWN)
  }, [page.rows, name, selection, choices])
  const references = useMemo(() => runs.map((run) => run.reference).sort(), [runs])
  // Of replicates the selected one is named first: the group has its look.
  const leading = useMemo(() => runs.map((run) => run.reference), [runs])
  const curves = useZoomedCurves(project, name, references, choices)
  const means = params.get('means') === 'yes' && choices.axis === 'step'
  const groups = useGroupCurves(project, name, leading, means)
  const series = useMemo<Series[]>(() => {
    const found = groups.data
    if (means && found && found.metric === name) return banded(found.curves, lookIn(selection))
    return (curves ?? []).map((curve) => {
      const number = curve.run.split('/')[1] ?? ''
      return { ...curve, name: curve.run, label: number, slot: selection.get(number) ?? 0 }
    })
  }, [curves, selection, means, groups.data, name])
  if (!metric) {
    return (
      <section aria-label="Lens" className="shrink-0 border-y border-line px-6">
        <div className="flex min-h-[30px] flex-wrap items-center gap-x-4 text-xs text-ink2">
          <LensTitle />
          <span className="text-ink3">None of these runs has a metric with points.</span>
        </div>
      </section>
    )
  }
  const axisName = choices.against ?? choices.axis
  const picture = {
    title: `${metric.name} by ${axisName}`,
    series,
    axisName,
    bound: metric.goal?.bound,
    ...choices,
  }
  return (
    <section aria-label="Lens" className="shrink-0 border-y border-line px-6">
      <div className="flex min-h-[30px] flex-wrap items-center gap-x-4 gap-y-1 border-b border-line text-xs text-ink2">
        <LensTitle />
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
        <ChartChoices choices={choices} metrics={metrics.map((column) => column.name)} what="runs" />
        {choices.axis === 'step' && (
          <label
            className="flex items-center gap-1 whitespace-nowrap"
            title="Runs that repeat one another as one: mean, lowest and highest"
          >
            <input
              type="checkbox"
              checked={means}
              onChange={(event) => change('means', event.target.checked ? 'yes' : null)}
            />
            means
          </label>
        )}
        <SaveMenu
          title={metric.name}
          ready={curves !== undefined}
          saves={{
            PNG: () => canvas.current && savePng(canvas.current, picture.title),
            SVG: () => saveSvg(picture),
            'CSV of what is drawn': () => saveCsv(picture),
          }}
        />
        <span className="ml-auto truncate text-ink3" title="Drag to zoom, double-click to see all">
          {means && groups.data ? `${groups.data.curves.length} groups of ` : ''}
          {references.length} of {page.rows.length} rows drawn
        </span>
      </div>
      <ChosenCurves
        series={series}
        waiting={curves === undefined}
        title={picture.title}
        height={HEIGHT}
        bound={metric.goal?.bound}
        onOpen={onOpen}
        choices={choices}
        canvas={canvas}
      />
    </section>
  )
}
