/** Runs side by side: what was set differently, what came out differently, curves overlaid. */
import { useMemo } from 'react'
import { useNavigate, useParams } from 'react-router'
import { useComparison, type Comparison } from '../../api/comparing'
import { Kept } from '../../parts/results/Kept'
import { Answer, Page, Waiting } from '../../parts/Shell'
import { useAddress } from '../../parts/selection'
import { Outcomes } from './Outcomes'
import { Overlay } from './Overlay'
import { Settings } from './Settings'
import { SameRows, Why } from './Why'

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
  const each = params.get('each') === 'yes'
  const { data, error } = useComparison(project, references, baseline, each)
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
    const after = new URLSearchParams(params)
    after.delete('run')
    for (const run of [...chosen].reverse()) after.append('run', `${run.reference}~${run.slot}`)
    void navigate(`/${project}/compare?${after}`)
  }
  const slotOf = new Map(chosen.map((run) => [run.reference, run.slot]))
  const slots = data.runs.map((run, at) => slotOf.get(run.reference) ?? at + 1)
  const runs = data.runs.map((run) => run.reference)
  const subject = runs[data.baseline === 0 ? 1 : 0] ?? ''
  const why = data.outcomes.find((row) => row.goal && row.change !== null)
  const two = runs.length === 2 ? [subject, runs[data.baseline] ?? ''] : []
  return (
    <Page crumbs={crumbs} at="Experiments" title={`Compare ${references.join(', ')}`}>
      <Answer
        reason={data.headline.reason}
        right={
          <Choices
            data={data}
            each={each}
            onEach={(on) => change('each', on ? 'yes' : null)}
            onBaseline={(at) => change('baseline', String(references.indexOf(runs[at] ?? '')))}
            onSwap={swap}
          />
        }
      >
        <b>{data.headline.finding}</b>
        {data.headline.rest}
      </Answer>
      <div className="grid grid-cols-12 content-start gap-x-6 gap-y-5 px-6 pb-6">
        <div className="col-span-7 min-w-0 overflow-x-auto">
          <Settings data={data} slots={slots} baseline={data.baseline} />
          <Outcomes data={data} slots={slots} baseline={data.baseline} />
        </div>
        <Overlay data={data} slots={slots} each={each} />
        {two.length > 0 && (
          <>
            {why && (
              <Why
                project={project}
                runs={two}
                keys={data.outcomes.filter((row) => row.change !== null).map((row) => row.key)}
                first={why.key}
              />
            )}
            <SameRows project={project} runs={two} />
          </>
        )}
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

function Choices(props: {
  data: Comparison
  each: boolean
  onEach: (on: boolean) => void
  onBaseline: (at: number) => void
  onSwap: () => void
}) {
  const { data, each, onEach, onBaseline, onSwap } = props
  return (
    <>
      {(each || data.runs.some((run) => run.replicates.length > 1)) && (
        <label className="flex items-center gap-1 text-xs text-ink2">
          <input type="checkbox" checked={!each} onChange={(event) => onEach(!event.target.checked)} />
          with replicates
        </label>
      )}
      {data.runs.length === 2 ? (
        <button className="btn" onClick={onSwap}>
          Swap
        </button>
      ) : (
        <label className="flex items-center gap-1 text-xs text-ink2">
          Baseline
          <select
            className="field text-xs"
            value={data.baseline}
            onChange={(event) => onBaseline(Number(event.target.value))}
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
  )
}
