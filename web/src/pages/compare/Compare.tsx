/** Runs side by side: what was set differently, what came out differently, curves overlaid. */
import { useMemo, useRef } from 'react'
import { Link, useNavigate, useParams } from 'react-router'
import type { Comparison } from '../../api/client'
import { useComparison } from '../../api/queries'
import { saveCsv, savePng, saveSvg } from '../../charts/save'
import { ChartChoices, SaveMenu, useChartChoices } from '../../parts/ChartChoices'
import { Key, Section } from '../../parts/Marks'
import { ChangePost } from '../../parts/Post'
import { Kept } from '../../parts/results/Kept'
import { Answer, Page, Waiting } from '../../parts/Shell'
import { ChosenCurves } from '../../parts/ChosenCurves'
import { useZoomedCurves } from '../../parts/useSeries'
import { useAddress } from '../../parts/selection'
import { arrow, decimalsOf, plural, show, signed } from '../../parts/values'

type Chosen = { reference: string; slot: number }

function chosenRuns(params: URLSearchParams): Chosen[] {
  return params.getAll('run').map((text, at) => {
    const [reference = '', slot] = text.split('~')
    return { reference, slot: Number(slot) || at + 1 }
  })
}

export default function Compare() {
  const { project = '' } = useParams()
  const { params, change } = useAddress()
  const navigate = useNavigate()
  const chosen = useMemo(() => chosenRuns(params), [params])
  const references = useMemo(() => chosen.map((run) => run.reference), [chosen])
  const baseline = Math.min(
    Math.max(0, Number(params.get('baseline') ?? 1) || 0),
    Math.max(0, references.length - 1),
  )
  const { data, error } = useComparison(project, references, baseline)
  const experiment = references[0]?.split('/')[0] ?? ''
  const crumbs = [
    { text: experiment, to: `/${project}/e/${experiment}` },
    { text: `compare ${references.map((reference) => reference.split('/')[1]).join(', ')}` },
  ]
  if (references.length < 2 || !data) {
    const problem =
      references.length < 2 ? new Error('Select two or more runs on an experiment page.') : error
    return (
      <Page crumbs={crumbs} at="Experiments" title="Compare">
        <Waiting error={problem} />
      </Page>
    )
  }
  const swap = () => {
    const turned = [...chosen].reverse().map((run) => `run=${run.reference}~${run.slot}`)
    void navigate(`/${project}/compare?${turned.join('&')}`)
  }
  const slots = chosen.map((run) => run.slot)
  return (
    <Page crumbs={crumbs} at="Experiments" title={`Compare ${references.join(', ')}`}>
      <Answer
        reason={data.headline.reason}
        right={
          <>
            {data.runs.length === 2 ? (
              <button className="btn" onClick={swap}>
                Swap
              </button>
            ) : (
              <label className="flex items-center gap-1 text-xs text-ink2">
                Baseline
                <select
                  className="field text-xs"
                  value={baseline}
                  onChange={(event) => change('baseline', event.target.value)}
                >
                  {data.runs.map((run, at) => (
                    <option key={run.reference} value={at}>
                      {run.label}
                    </option>
                  ))}
                </select>
              </label>
            )}
          </>
        }
      >
        <b>{data.headline.finding}</b>
        {data.headline.rest}
      </Answer>
      <div className="grid grid-cols-12 content-start gap-x-6 gap-y-5 px-6 pb-6">
        <div className="col-span-7 min-w-0 overflow-x-auto">
          <Settings data={data} slots={slots} />
          <Outcomes data={data} slots={slots} baseline={baseline} />
        </div>
        <Overlay data={data} slots={slots} />
        <Kept
          project={project}
          runs={data.runs.map((run, at) => ({
            reference: run.reference,
            label: run.label,
            slot: slots[at] ?? at + 1,
          }))}
        />
      </div>
    </Page>
  )
}

function Heads({ data, slots }: { data: Comparison; slots: number[] }) {
  const { project = '' } = useParams()
  return data.runs.map((run, at) => (
    <th key={run.reference} scope="col" className="min-w-[84px] pb-1 pl-4 text-right whitespace-nowrap">
      <Key slot={slots[at] ?? 0} />{' '}
      <Link
        className="strong hover:underline"
        to={`/${project}/e/${run.reference}`}
        title={run.name ?? undefined}
      >
        {run.label}
      </Link>
    </th>
  ))
}

function Settings({ data, slots }: { data: Comparison; slots: number[] }) {
  const { project = '' } = useParams()
  const rows = [...data.settings, ...data.inputs.map((row) => ({ ...row, key: `data ${row.key}` }))]
  const equal = data.settings_equal + data.inputs_equal
  return (
    <table className="w-full" aria-label="Set differently">
      <thead>
        <tr className="border-b border-line2">
          <th scope="col" className="pb-1">
            <h2 className="strong inline text-sm">Set differently</h2>{' '}
            <span className="lab">
              {rows.length} of {rows.length + equal}
            </span>
          </th>
          <Heads data={data} slots={slots} />
          <td className="lab pb-1 text-right">{equal} equal, hidden</td>
        </tr>
      </thead>
      <tbody>
        {rows.map((row) => (
          <tr key={row.key} className="h-7 border-b border-line">
            <th scope="row" className="mono">
              {row.key}
            </th>
            {row.values.map((value, at) => {
              const same = at > 0 && row.present[at] && row.present[0] && show(value) === show(row.values[0])
              return (
                <td
                  key={data.runs[at]?.reference}
                  className={`pl-4 text-right ${same ? 'text-ink3' : 'strong'}`}
                >
                  {!row.present[at] ? '–' : same ? 'same' : show(value)}
                </td>
              )
            })}
            <td className="text-right">
              <FilesLink project={project} values={row.values} />
            </td>
          </tr>
        ))}
        {rows.length === 0 && (
          <tr>
            <td className="py-2 text-xs text-ink3">Every setting is equal.</td>
          </tr>
        )}
      </tbody>
    </table>
  )
}

/** Where two versions of data differ: the way to their files side by side. */
function FilesLink({ project, values }: { project: string; values: unknown[] }) {
  const named = [
    ...new Set(values.filter((value) => typeof value === 'string' && /^[a-z][\w.-]*@\d+$/.test(value))),
  ]
  if (named.length !== 2) return null
  const [right, left] = named as [string, string]
  const [name, version] = right.split('@')
  return (
    <Link className="link text-xs" to={`/${project}/data/${name}?version=${version}&against=${left}`}>
      files side by side
    </Link>
  )
}

function Outcomes({ data, slots, baseline }: { data: Comparison; slots: number[]; baseline: number }) {
  const subject = data.runs[baseline === 0 ? 1 : 0]
  const shares = data.outcomes.map((row) => Math.abs(row.change_share ?? 0))
  const largest = Math.max(...shares.filter(isFinite), 1e-12)
  return (
    <table className="mt-5 w-full" aria-label="Came out differently">
      <thead>
        <tr className="border-b border-line2">
          <th scope="col" className="pb-1">
            <h2 className="strong inline text-sm">Came out differently</h2>{' '}
            <span className="lab">{data.outcomes_equal} equal, hidden</span>
          </th>
          <Heads data={data} slots={slots} />
          <th scope="col" className="lab pb-1 pl-4 text-right whitespace-nowrap">
            {subject?.label} − {data.runs[baseline]?.label}
          </th>
          <th scope="col" className="lab pb-1 pl-4">
            <span className="flex w-[124px] justify-between">
              <span>worse</span>
              <span>better</span>
            </span>
          </th>
          <td />
        </tr>
      </thead>
      <tbody>
        {data.outcomes.map((row) => {
          const decimals = decimalsOf(row.values)
          return (
            <tr key={row.key} className="h-[31px] border-b border-line">
              <th scope="row" className="whitespace-nowrap">
                {row.key}
                {arrow(row.goal)} <span className="text-2xs text-ink3">{row.goal?.unit}</span>
              </th>
              {row.values.map((value, at) => (
                <td
                  key={data.runs[at]?.reference}
                  className={`pl-4 text-right ${row.best[at] ? 'strong' : 'text-ink2'}`}
                >
                  {row.present[at] ? show(value, typeof value === 'number' ? decimals : undefined) : '–'}
                  {row.best[at] && <span className="sr-only"> best</span>}
                </td>
              ))}
              <td className="pl-4 text-right whitespace-nowrap">
                {row.change === null ? '' : signed(row.change)}
                <span className="ml-1 text-2xs text-ink3">
                  {row.change_share === null ? '' : `${signed(row.change_share * 100)} %`}
                </span>
              </td>
              <td className="pl-4">
                <ChangePost share={(row.change_share ?? 0) / largest} verdict={row.verdict} />
              </td>
              <td
                className={`pl-3 text-xs ${row.verdict === 'better' ? 'strong text-accent' : row.verdict === 'worse' ? 'strong text-bad' : 'text-ink3'}`}
              >
                {row.verdict ?? (row.goal ? '' : 'no goal')}
              </td>
            </tr>
          )
        })}
      </tbody>
    </table>
  )
}

function Overlay({ data, slots }: { data: Comparison; slots: number[] }) {
  const { project = '' } = useParams()
  const { params, change } = useAddress()
  const choices = useChartChoices()
  const canvas = useRef<HTMLCanvasElement | null>(null)
  const asked = params.get('y')
  const metric = asked && data.metrics.includes(asked) ? asked : data.metrics[0]
  const references = useMemo(() => data.runs.map((run) => run.reference), [data.runs])
  const curves = useZoomedCurves(project, metric, references, choices)
  const series = useMemo(
    () =>
      (curves ?? [])
        .map((curve, at) => ({
          ...curve,
          name: curve.run,
          label: data.runs[at]?.label ?? curve.run,
          slot: slots[at] ?? 0,
        }))
        .filter((one) => choices.fits(one.label) || choices.fits(one.name)),
    [curves, data.runs, slots, choices],
  )
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
