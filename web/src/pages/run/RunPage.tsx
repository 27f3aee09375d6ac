/** One run: what was set, measured, used and generated. */
import { useMemo, useState } from 'react'
import { Link, useParams } from 'react-router'
import type { Goal, RunDetail } from '../../api/client'
import { useCurves, useRun } from '../../api/queries'
import { Curves } from '../../charts/Curves'
import { ChartChoices, useChartChoices } from '../../parts/ChartChoices'
import { Changing, Fact, Section, Status } from '../../parts/Marks'
import { BoundPost } from '../../parts/Post'
import { Answer, Page, Waiting } from '../../parts/Shell'
import { arrow, asNumber, duration, goalsFirst, fullMoment, moment, plural, show } from '../../parts/values'
import { RegisterDialog } from './RegisterDialog'

export default function RunPage() {
  const { project = '', experiment = '', run: number = '' } = useParams()
  const { data: run, error } = useRun(project, experiment, number)
  const crumbs = [
    { text: experiment, to: `/${project}/e/${experiment}` },
    { text: run ? String(run.number) : number },
  ]
  const [registering, setRegistering] = useState(false)
  if (!run) {
    return (
      <Page crumbs={crumbs} at="Experiments" title={`${experiment}/${number}`}>
        <Waiting error={error} />
      </Page>
    )
  }
  return (
    <Page crumbs={crumbs} at="Experiments" title={run.reference}>
      <Answer
        reason={<Origin run={run} />}
        right={
          <>
            <Link className="btn" to={`/${project}/e/${experiment}?sel=${run.number}~1`}>
              Select in {experiment}
            </Link>
            {run.generated.length > 0 && (
              <button className="btn btn-p" onClick={() => setRegistering(true)}>
                Register a version
              </button>
            )}
          </>
        }
      >
        <Finding run={run} />
      </Answer>
      <div className="grid grid-cols-12 content-start gap-x-6 gap-y-5 px-6 pb-6">
        {(run.problems.length > 0 || (run.reason && run.status !== 'finished')) && <Problems run={run} />}
        <Settings run={run} />
        <Results run={run} />
        <Metrics run={run} />
        <Links title="Used" links={run.used} empty="No input was recorded." />
        <Links title="Generated" links={run.generated} empty="No output was recorded." />
        <Surroundings run={run} />
      </div>
      {registering && <RegisterDialog run={run} onClose={() => setRegistering(false)} />}
    </Page>
  )
}

function Finding({ run }: { run: RunDetail }) {
  const judged = run.goals.flatMap((goal) => {
    const value = asNumber(run.values[goal.key])
    return value !== null && goal.bound !== null && goal.bound !== undefined ? [{ goal, value }] : []
  })
  const met = judged.filter(({ goal, value }) =>
    goal.direction === 'higher' ? value >= goal.bound! : value <= goal.bound!,
  )
  const first = run.goals.find((goal) => run.values[goal.key] !== undefined)
  const figure = first
    ? `${first.key} ${show(run.values[first.key])}${first.unit ? ` ${first.unit}` : ''}`
    : ''
  if (run.status === 'failed' || run.status === 'lost') {
    return (
      <>
        <b>
          Run {run.number} {run.status === 'lost' ? 'is lost' : 'failed'}
        </b>{' '}
        after {duration(run.started_at, run.ended_at)}
        {figure && `; ${figure} until then`}.
      </>
    )
  }
  if (run.status === 'running') {
    return (
      <>
        <b>Run {run.number} is running</b>
        {figure && (
          <>
            : <Changing>{figure}</Changing> so far
          </>
        )}
        .
      </>
    )
  }
  if (judged.length) {
    return (
      <>
        <b>
          Run {run.number} meets {met.length} of {judged.length} goals
        </b>
        :{' '}
        {judged
          .map(({ goal, value }) => `${goal.key} ${show(value)}${goal.unit ? ` ${goal.unit}` : ''}`)
          .join(', ')}
        .
      </>
    )
  }
  return (
    <>
      <b>
        Run {run.number} {run.status}
      </b>
      {figure && `: ${figure}`}.
    </>
  )
}

function Origin({ run }: { run: RunDetail }) {
  const { project = '' } = useParams()
  return (
    <>
      <Status status={run.status} text={`${run.status} ${moment(run.ended_at ?? run.started_at)}`} />
      {' · '}started {fullMoment(run.started_at)}
      {run.ended_at ? `, took ${duration(run.started_at, run.ended_at)}` : ''} by {run.author} on{' '}
      <span className="mono">{run.host}</span>
      {run.name && ` · ${run.name}`}
      {Object.entries(run.labels).map(([key, text]) => (
        <span key={key}>
          {' · '}label{' '}
          <span className="mono">
            {key} = {text}
          </span>
        </span>
      ))}
      {run.parent && (
        <>
          {' · '}child of{' '}
          <Link className="link" to={`/${project}/e/${run.parent}`}>
            {run.parent}
          </Link>
        </>
      )}
      {run.versions.map((version) => (
        <span key={version}>
          {' · '}registered as{' '}
          <Link className="link" to={`/${project}/models/${version.replace('@', '/')}`}>
            {version}
          </Link>
        </span>
      ))}
    </>
  )
}

function Problems({ run }: { run: RunDetail }) {
  return (
    <Section
      className="col-span-12"
      title="Problems"
      fact={plural(run.problems.length + (run.reason ? 1 : 0), 'problem')}
    >
      {run.reason && run.status !== 'finished' && (
        <pre className="mono max-h-40 overflow-auto py-1 whitespace-pre-wrap text-bad">{run.reason}</pre>
      )}
      {run.problems.map((problem) => (
        <p key={problem.text} className="py-0.5 text-xs text-bad">
          {problem.text}
        </p>
      ))}
    </Section>
  )
}

function Settings({ run }: { run: RunDetail }) {
  const rows = Object.entries(run.params)
  return (
    <Section className="col-span-3" title="Settings" fact={plural(rows.length, 'parameter')}>
      <table className="w-full table-fixed">
        <tbody>
          {rows.map(([key, value]) => (
            <tr key={key} className="h-[22px] border-b border-line">
              <th scope="row" className="mono truncate text-ink2" title={key}>
                {key}
              </th>
              <td className="strong truncate" title={show(value)}>
                {show(value)}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {rows.length === 0 && <p className="lab">No parameter was set.</p>}
    </Section>
  )
}

const goalText = (goal: Goal) =>
  goal.bound === null || goal.bound === undefined
    ? `${goal.direction} is better`
    : `goal ${goal.direction === 'higher' ? '≥' : '≤'} ${goal.bound}${goal.unit ? ` ${goal.unit}` : ''}`

function Results({ run }: { run: RunDetail }) {
  const goals = new Map(run.goals.map((goal) => [goal.key, goal]))
  const keys = goalsFirst(Object.keys(run.values), run.goals)
  return (
    <Section className="col-span-4" title="Results against goals" fact="right of the post: met">
      <table className="w-full table-fixed">
        <tbody>
          {keys.map((key) => {
            const goal = goals.get(key)
            const value = run.values[key]
            const number = asNumber(value)
            const metric = run.metrics[key]
            const bad = number !== null && Number.isNaN(number)
            return (
              <tr key={key} className="h-[42px] border-b border-line">
                <th scope="row" className="w-[36%] truncate leading-4" title={key}>
                  {key}
                  {arrow(goal)}
                  <br />
                  <span className="lab">
                    {goal ? goalText(goal) : key in run.results ? 'result' : 'last value'}
                  </span>
                </th>
                <td className={`truncate text-right text-base ${bad ? 'text-bad' : ''}`} title={show(value)}>
                  <b className="strong">
                    <Changing>{show(value)}</Changing>
                  </b>
                </td>
                <td className="w-8 pl-1 text-2xs text-ink3">{goal?.unit}</td>
                <td className="w-[112px] pl-2">
                  {goal?.bound !== null && goal?.bound !== undefined && number !== null && !bad ? (
                    <BoundPost value={number} bound={goal.bound} higher={goal.direction === 'higher'} />
                  ) : (
                    metric && <span className="lab">{metric.count.toLocaleString('en')} points</span>
                  )}
                </td>
              </tr>
            )
          })}
        </tbody>
      </table>
      {keys.length === 0 && <p className="lab">Nothing was measured yet.</p>}
    </Section>
  )
}

function Metrics({ run }: { run: RunDetail }) {
  const choices = useChartChoices()
  const goals = new Map(run.goals.map((goal) => [goal.key, goal]))
  const names = goalsFirst(run.metric_names, run.goals)
  return (
    <Section
      className="col-span-5"
      title="Curves"
      fact={
        <span className="flex gap-3">
          <ChartChoices choices={choices} />
        </span>
      }
    >
      {names.slice(0, 12).map((name) => (
        <MetricCurve key={name} run={run} name={name} goal={goals.get(name)} />
      ))}
      {names.length === 0 && <p className="lab">No metric was measured.</p>}
      {names.length > 12 && (
        <p className="lab">{names.length - 12} more metrics; see them on the experiment page.</p>
      )}
    </Section>
  )
}

function MetricCurve({ run, name, goal }: { run: RunDetail; name: string; goal?: Goal }) {
  const choices = useChartChoices()
  const references = useMemo(() => [run.reference], [run.reference])
  const { data } = useCurves(run.project, name, references, 600)
  const series = useMemo(
    () => (data?.curves ?? []).map((curve) => ({ ...curve, name: curve.run, label: '', slot: 1 })),
    [data],
  )
  return (
    <div className="border-b border-line pt-1">
      <h3 className="text-xs text-ink2">
        {name}
        {arrow(goal)} {goal?.unit && <span className="text-ink3">{goal.unit}</span>}
      </h3>
      <Curves
        series={series}
        title={`${name} of ${run.reference}`}
        height={128}
        bound={goal?.bound}
        {...choices}
      />
    </div>
  )
}

function Links({ title, links, empty }: { title: string; links: RunDetail['used']; empty: string }) {
  return (
    <Section className="col-span-4" title={title} fact={plural(links.length, 'version')}>
      <table className="w-full text-xs">
        <tbody>
          {links.map((link) => (
            <tr key={`${link.reference} ${link.role} ${link.step}`} className="h-7 border-b border-line">
              <th scope="row" className="mono">
                {link.reference}
              </th>
              <td className="text-ink2">
                {link.kind}
                {link.role ? `, ${link.role}` : ''}
              </td>
              <td className="mono text-right text-ink3" title={`sha256:${link.digest}`}>
                {link.digest.slice(0, 12)}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {links.length === 0 && <p className="lab">{empty}</p>}
    </Section>
  )
}

function Surroundings({ run }: { run: RunDetail }) {
  const { project = '' } = useParams()
  return (
    <Section className="col-span-4" title="Surroundings">
      <dl className="text-xs">
        {Object.entries(run.about).map(([key, value]) => (
          <Fact key={key} term={key}>
            <span className="mono">{show(value)}</span>
          </Fact>
        ))}
        <Fact term="id">
          <span className="mono">{run.id}</span>
        </Fact>
        {run.children.length > 0 && (
          <Fact term="children">
            {run.children.map((child) => (
              <Link key={child} className="link mr-2" to={`/${project}/e/${child}`}>
                {child.split('/')[1]}
              </Link>
            ))}
          </Fact>
        )}
      </dl>
    </Section>
  )
}
