/** The lens: curves of exactly the rows below; of one metric, or of each in a chart of its own. */
import { useMemo, useRef } from 'react'
import { useParams } from 'react-router'
import type { RunPage } from '../../api/client'
import { useGroupCurves } from '../../api/comparing'
import { banded } from '../../charts/bands'
import type { Series } from '../../charts/Curves'
import { saveCsv, savePng, saveSvg } from '../../charts/save'
import { ChartChoices, SaveMenu, useChartChoices, type Choices } from '../../parts/ChartChoices'
import { useAddress, type Selection } from '../../parts/selection'
import { ChosenCurves } from '../../parts/ChosenCurves'
import { useZoomedCurves } from '../../parts/useSeries'
import { LensEdge, useMoreHeight } from './LensEdge'
import { LensTitle } from './LensTitle'
import { keysOf } from './columns'

type Metric = ReturnType<typeof keysOf>[number]

/** A group bears the number and the look of the first of its runs; selected ones come first. */
function lookIn(selection: Selection) {
  return (reference: string) => {
    const number = reference.split('/')[1] ?? ''
    return { label: number, slot: selection.get(number) ?? 0 }
  }
}

const DRAWN = 100
const HEIGHT = 190
const EACH = 12
const EACH_HEIGHT = 150

type Shown = { page: RunPage; selection: Selection; choices: Choices; means: boolean }

/** The curves of one metric: of the runs that have it and fit, the selected ones first. */
function useDrawnCurves(name: string | undefined, { page, selection, choices, means }: Shown) {
  const { project = '' } = useParams()
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
  const groups = useGroupCurves(project, name, leading, means).data
  const series = useMemo<Series[]>(() => {
    if (means && groups && groups.metric === name) return banded(groups.curves, lookIn(selection))
    return (curves ?? []).map((curve) => {
      const number = curve.run.split('/')[1] ?? ''
      return { ...curve, name: curve.run, label: number, slot: selection.get(number) ?? 0 }
    })
  }, [curves, selection, means, groups, name])
  const told = means && groups ? `${groups.curves.length} groups of ` : ''
  return {
    series,
    waiting: curves === undefined,
    note: `${told}${references.length} of ${page.rows.length} rows drawn`,
  }
}

type Found = ReturnType<typeof useDrawnCurves>

function Save({
  metric,
  found,
  choices,
  canvas,
}: {
  metric: Metric
  found: Found
  choices: Choices
  canvas: React.RefObject<HTMLCanvasElement | null>
}) {
  const axisName = choices.against ?? choices.axis
  const picture = {
    title: `${metric.name} by ${axisName}`,
    series: found.series,
    axisName,
    bound: metric.goal?.bound,
    ...choices,
  }
  return (
    <SaveMenu
      title={metric.name}
      ready={!found.waiting}
      saves={{
        PNG: () => canvas.current && savePng(canvas.current, picture.title),
        SVG: () => saveSvg(picture),
        'CSV of what is drawn': () => saveCsv(picture),
      }}
    />
  )
}

/** One of several charts: its metric, how to take it along, its curves. */
function OneMetric({ metric, onOpen, ...shown }: Shown & { metric: Metric; onOpen: (name: string) => void }) {
  const canvas = useRef<HTMLCanvasElement | null>(null)
  const found = useDrawnCurves(metric.name, shown)
  const { choices } = shown
  return (
    <figure className="m-0 min-w-0">
      <figcaption className="flex items-center gap-2 pt-1 text-xs text-ink2" title={found.note}>
        <span className="min-w-0 truncate" title={metric.name}>
          {metric.name}
        </span>
        <span className="ml-auto" />
        <Save metric={metric} found={found} choices={choices} canvas={canvas} />
      </figcaption>
      <ChosenCurves
        series={found.series}
        waiting={found.waiting}
        title={`${metric.name} by ${choices.against ?? choices.axis}`}
        height={EACH_HEIGHT}
        bound={metric.goal?.bound}
        onOpen={onOpen}
        choices={choices}
        canvas={canvas}
      />
    </figure>
  )
}

function Bar({ children, note }: { children: React.ReactNode; note?: string }) {
  return (
    <div className="flex min-h-[30px] flex-wrap items-center gap-x-4 gap-y-1 border-b border-line text-xs text-ink2">
      <LensTitle />
      {children}
      {note && (
        <span className="ml-auto truncate text-ink3" title="Drag to zoom, double-click to see all">
          {note}
        </span>
      )}
    </div>
  )
}

export function Lens({
  page,
  selection,
  onOpen,
}: {
  page: RunPage
  selection: Selection
  onOpen: (name: string) => void
}) {
  const { params, change } = useAddress()
  const choices = useChartChoices()
  const canvas = useRef<HTMLCanvasElement | null>(null)
  const height = HEIGHT + useMoreHeight()
  const metrics = keysOf(page, true)
  const asked = params.get('y')
  const metric = metrics.find((column) => column.name === asked) ?? metrics[0]
  const each = params.get('each') === 'yes' && metrics.length > 1
  const shown = { page, selection, choices, means: params.get('means') === 'yes' && choices.axis === 'step' }
  const found = useDrawnCurves(each ? undefined : metric?.name, shown)
  if (!metric) {
    return (
      <section aria-label="Lens" className="shrink-0 border-y border-line px-6">
        <Bar>
          <span className="text-ink3">None of these runs has a metric with points.</span>
        </Bar>
      </section>
    )
  }
  const several = metrics.slice(0, EACH)
  return (
    <section aria-label="Lens" className="shrink-0 border-y border-line px-6">
      <Bar note={each ? `${several.length} of ${metrics.length} metrics` : found.note}>
        <ChooseMetric metrics={metrics} metric={metric} each={each} />
        <ChartChoices choices={choices} metrics={metrics.map((column) => column.name)} what="runs" />
        {choices.axis === 'step' && (
          <label
            className="flex items-center gap-1 whitespace-nowrap"
            title="Runs that repeat one another as one: mean, lowest and highest"
          >
            <input
              type="checkbox"
              checked={shown.means}
              onChange={(event) => change('means', event.target.checked ? 'yes' : null)}
            />
            means
          </label>
        )}
        {!each && <Save metric={metric} found={found} choices={choices} canvas={canvas} />}
      </Bar>
      {each ? (
        <div
          className="grid grid-cols-3 gap-x-4 overflow-auto"
          style={{ maxHeight: Math.max(height, HEIGHT) * 2 }}
          tabIndex={0}
          aria-label="One chart per metric"
        >
          {several.map((one) => (
            <OneMetric key={one.name} metric={one} onOpen={onOpen} {...shown} />
          ))}
        </div>
      ) : (
        <ChosenCurves
          series={found.series}
          waiting={found.waiting}
          title={`${metric.name} by ${choices.against ?? choices.axis}`}
          height={height}
          bound={metric.goal?.bound}
          onOpen={onOpen}
          choices={choices}
          canvas={canvas}
        />
      )}
      <LensEdge />
    </section>
  )
}

const EVERY = ' every'

/** The metric on the y axis, or every metric in a chart of its own. */
function ChooseMetric({ metrics, metric, each }: { metrics: Metric[]; metric: Metric; each: boolean }) {
  const { changeAll } = useAddress()
  return (
    <label className="flex items-center gap-1">
      y
      <select
        aria-label="y axis"
        className="field max-w-36 py-0 text-xs"
        value={each ? EVERY : metric.name}
        onChange={({ target }) =>
          changeAll(target.value === EVERY ? { each: 'yes' } : { each: null, y: target.value })
        }
      >
        {metrics.map((column) => (
          <option key={column.name}>{column.name}</option>
        ))}
        {metrics.length > 1 && <option value={EVERY}>each in a chart of its own</option>}
      </select>
    </label>
  )
}
