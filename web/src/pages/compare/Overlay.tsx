/** The curves of the runs compared, laid over one another; of groups the mean and the band of their replicates. */
import { useMemo, useRef } from 'react'
import { useParams } from 'react-router'
import { useGroupCurves, type Comparison } from '../../api/comparing'
import { banded } from '../../charts/bands'
import type { Series } from '../../charts/Curves'
import { saveCsv, savePng, saveSvg } from '../../charts/save'
import { ChartChoices, SaveMenu, useChartChoices } from '../../parts/ChartChoices'
import { ChosenCurves } from '../../parts/ChosenCurves'
import { Section } from '../../parts/Marks'
import { useAddress } from '../../parts/selection'
import { useZoomedCurves } from '../../parts/useSeries'
import { plural } from '../../parts/values'

export function Overlay(props: { data: Comparison; slots: number[]; each: boolean }) {
  const { data, slots, each } = props
  const { project = '' } = useParams()
  const { params, change } = useAddress()
  const choices = useChartChoices()
  const canvas = useRef<HTMLCanvasElement | null>(null)
  const asked = params.get('y')
  const metric = asked && data.metrics.includes(asked) ? asked : data.metrics[0]
  const references = useMemo(() => data.runs.map((run) => run.reference), [data.runs])
  const curves = useZoomedCurves(project, metric, references, choices)
  const hasGroups = !each && choices.axis === 'step' && data.runs.some((run) => run.replicates.length > 1)
  const groups = useGroupCurves(project, metric, references, hasGroups)
  const series = useMemo<Series[]>(() => {
    const found = groups.data
    if (hasGroups && found && found.metric === metric)
      return banded(found.curves, (reference) => {
        const at = data.runs.findIndex((run) => run.reference === reference)
        return { label: data.runs[at]?.label ?? reference, slot: slots[at] ?? 0 }
      }).filter((one) => choices.fits(one.label))
    return (curves ?? [])
      .map((curve, at) => ({
        ...curve,
        name: curve.run,
        label: data.runs[at]?.label ?? curve.run,
        slot: slots[at] ?? 0,
      }))
      .filter((one) => choices.fits(one.label) || choices.fits(one.name))
  }, [curves, data, slots, choices, hasGroups, groups.data, metric])
  const axisName = choices.against ?? choices.axis
  const picture = { title: `${metric} by ${axisName}`, series, axisName, ...choices }
  const goal = data.outcomes.find((row) => row.key === metric)?.goal
  return (
    <Section
      className="col-span-5"
      title={
        <label>
          <span className="sr-only">Metric</span>
          <select
            className="field strong py-0 text-sm"
            value={metric}
            onChange={(event) => change('y', event.target.value)}
          >
            {data.metrics.map((name) => (
              <option key={name}>{name}</option>
            ))}
          </select>
        </label>
      }
      fact={
        <SaveMenu
          title={metric ?? 'curves'}
          ready={curves !== undefined}
          saves={{
            PNG: () => canvas.current && savePng(canvas.current, picture.title),
            SVG: () => saveSvg({ ...picture, bound: goal?.bound }),
            'CSV of what is drawn': () => saveCsv(picture),
          }}
        />
      }
    >
      <div className="flex flex-wrap items-center gap-x-3 gap-y-1 py-1 text-xs text-ink2">
        <ChartChoices choices={choices} metrics={data.metrics} what="runs" />
      </div>
      {metric ? (
        <ChosenCurves
          series={series}
          waiting={curves === undefined}
          title={`${metric} of ${plural(references.length, 'run')}`}
          height={300}
          bound={goal?.bound}
          choices={choices}
          canvas={canvas}
        />
      ) : (
        <p className="lab py-2">None of these runs has a metric with points.</p>
      )}
    </Section>
  )
}
