/** The curves of one run, each metric for itself, with everything a chart offers. */
import { useMemo, useRef } from 'react'
import type { Goal, RunDetail } from '../../api/client'
import { savePng, saveSvg } from '../../charts/save'
import { ChartChoices, SaveMenu, useChartChoices, type Choices } from '../../parts/ChartChoices'
import { Section } from '../../parts/Marks'
import { useAddress } from '../../parts/selection'
import { ChosenCurves } from '../../parts/ChosenCurves'
import { useZoomedCurves } from '../../parts/useSeries'
import { arrow, goalsFirst, plural } from '../../parts/values'
import { API } from '../../api/place'

const SHOWN = 12

export function RunCurves({ run }: { run: RunDetail }) {
  const choices = useChartChoices()
  const { params, change } = useAddress()
  const goals = new Map(run.goals.map((goal) => [goal.key, goal]))
  const names = goalsFirst(run.metric_names, run.goals)
  const fitting = names.filter((name) => choices.fits(name))
  const all = params.get('metrics') === 'all'
  const shown = all ? fitting : fitting.slice(0, SHOWN)
  return (
    <Section
      className="col-span-12"
      title="Curves"
      fact={
        <span className="flex items-center gap-3 text-xs">
          <ChartChoices choices={choices} metrics={names} what="metrics" />
        </span>
      }
    >
      <div className="grid grid-cols-[repeat(auto-fill,minmax(380px,1fr))] gap-x-6">
        {shown.map((name) => (
          <MetricCurve key={name} run={run} name={name} goal={goals.get(name)} choices={choices} />
        ))}
      </div>
      {names.length === 0 && <p className="lab">No metric was measured.</p>}
      {names.length > 0 && fitting.length === 0 && (
        <p className="lab">None of {plural(names.length, 'metric')} fits this filter.</p>
      )}
      {fitting.length > shown.length && (
        <p className="py-1">
          <button className="btn" onClick={() => change('metrics', 'all')}>
            Show {fitting.length - shown.length} more
          </button>
        </p>
      )}
    </Section>
  )
}

function MetricCurve(props: { run: RunDetail; name: string; goal: Goal | undefined; choices: Choices }) {
  const { run, name, goal, choices } = props
  const canvas = useRef<HTMLCanvasElement | null>(null)
  const references = useMemo(() => [run.reference], [run.reference])
  const curves = useZoomedCurves(run.project, name, references, choices)
  const series = useMemo(
    () => (curves ?? []).map((curve) => ({ ...curve, name: curve.run, label: '', slot: 1 })),
    [curves],
  )
  const axisName = choices.against ?? choices.axis
  const title = `${name} of ${run.reference} by ${axisName}`
  const metric = run.metrics[name]
  const table = `${API}/projects/${encodeURIComponent(run.project)}/experiments/${encodeURIComponent(run.experiment)}/runs/${run.number}/points/table`
  return (
    <div className="border-b border-line pt-1">
      <div className="flex items-center gap-2">
        <h3 className="truncate text-xs text-ink2" title={name}>
          {name}
          {arrow(goal)} {goal?.unit && <span className="text-ink3">{goal.unit}</span>}
        </h3>
        <span className="ml-auto lab whitespace-nowrap">
          {metric && plural(metric.count, 'point')}
          {metric && metric.nan_count > 0 && <span className="text-bad"> · {metric.nan_count} NaN</span>}
        </span>
        <SaveMenu
          title={name}
          ready={curves !== undefined}
          saves={{
            PNG: () => canvas.current && savePng(canvas.current, title),
            SVG: () => saveSvg({ title, series, axisName, bound: goal?.bound, ...choices }),
            'CSV, every point': `${table}?form=csv&metric=${encodeURIComponent(name)}`,
          }}
        />
      </div>
      <ChosenCurves
        series={series}
        waiting={curves === undefined}
        title={title}
        height={140}
        bound={goal?.bound}
        choices={choices}
        canvas={canvas}
      />
    </div>
  )
}
