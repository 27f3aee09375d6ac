/** One run: what was set, measured, used and generated. */
import { useState } from 'react'
import { useParams } from 'react-router'
import type { Goal, RunDetail } from '../../api/client'
import { useRun } from '../../api/queries'
import { Changing, Section } from '../../parts/Marks'
import { Notes } from '../../parts/Notes'
import { BoundPost } from '../../parts/Post'
import { Kept } from '../../parts/results/Kept'
import { Answer, Page, Waiting } from '../../parts/Shell'
import { arrow, asNumber, goalsFirst, plural, show } from '../../parts/values'
import { Children, History } from './Described'
import { Search } from './Search'
import { CorrectDialog, GoalDialog } from './EditDialogs'
import { RegisterDialog } from '../../parts/RegisterDialog'
import { Acts, Finding, Origin } from './RunHead'
import { Activities } from './Activities'
import { Resources } from './Resources'
import { Surroundings, SurroundingsDetail } from './Surroundings'
import { Output } from './Output'
import { Links } from './Links'
import { RunCurves } from './RunCurves'
import { DataTable } from '../../parts/DataTable'

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
        right={<Acts run={run} onRegister={() => setRegistering(true)} />}
      >
        <Finding run={run} />
      </Answer>
      <div className="grid grid-cols-12 content-start gap-x-6 gap-y-5 px-6 pb-6">
        {(run.problems.length > 0 || (run.reason && run.status !== 'finished')) && <Problems run={run} />}
        <Settings run={run} />
        <Results run={run} />
        <Surroundings run={run} />
        <SurroundingsDetail run={run} />
        {(run.metric_names.length > 0 || run.children.length === 0) && <RunCurves run={run} />}
        <Kept
          project={run.project}
          runs={[{ reference: run.reference, label: String(run.number), slot: 1 }]}
          may={run.may.includes('describe')}
        />
        <Output run={run} />
        <Activities run={run} />
        <Resources run={run} />
        <Links run={run} title="Used" links={run.used} empty="No input was recorded." />
        <Links run={run} title="Generated" links={run.generated} empty="No output was recorded." />
        <Search run={run} />
        <Children run={run} />
        <Notes
          className="col-span-6"
          project={run.project}
          of={run.reference}
          may={run.may.includes('describe')}
        />
        <History run={run} />
      </div>
      {registering && (
        <RegisterDialog
          project={run.project}
          from={{ run: run.reference, names: run.generated.map((link) => link.name) }}
          model={run.experiment}
          onClose={() => setRegistering(false)}
        />
      )}
    </Page>
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

const SETTINGS_SHOWN = 60

function Settings({ run }: { run: RunDetail }) {
  const rows = Object.entries(run.params)
  const [correcting, setCorrecting] = useState<string | null>(null)
  const [all, setAll] = useState(false)
  const may = run.may.includes('describe')
  return (
    <Section className="col-span-3" title="Settings" fact={plural(rows.length, 'parameter')}>
      <DataTable
        className="w-full table-fixed"
        rows={rows.slice(0, all ? rows.length : SETTINGS_SHOWN)}
        keyOf={([key]) => key}
        line="h-[22px] border-b border-line"
        columns={[
          {
            name: 'setting',
            heads: true,
            className: 'mono truncate text-ink2',
            title: ([key]) => key,
            cell: ([key]) => key,
          },
          {
            name: 'value',
            className: 'strong truncate',
            title: ([, value]) => show(value),
            cell: ([, value]) => show(value),
          },
          may && {
            name: 'correct',
            right: true,
            className: 'w-[52px]',
            cell: ([key]) => (
              <button className="quiet-act" aria-label={`correct ${key}`} onClick={() => setCorrecting(key)}>
                correct
              </button>
            ),
          },
        ]}
      />
      {rows.length > SETTINGS_SHOWN && !all && (
        <p className="py-1">
          <button className="btn" onClick={() => setAll(true)}>
            Show {rows.length - SETTINGS_SHOWN} more settings
          </button>
        </p>
      )}
      {rows.length === 0 && <p className="lab">No parameter was set.</p>}
      {correcting !== null && (
        <CorrectDialog run={run} name={correcting} onClose={() => setCorrecting(null)} />
      )}
    </Section>
  )
}

const goalText = (goal: Goal) =>
  goal.bound === null || goal.bound === undefined
    ? `${goal.direction} is better`
    : `goal ${goal.direction === 'higher' ? '≥' : '≤'} ${goal.bound}${goal.unit ? ` ${goal.unit}` : ''}`

function ResultRow(props: {
  run: RunDetail
  name: string
  goal: Goal | undefined
  onGoal: ((name: string) => void) | undefined
}) {
  const { run, name, goal, onGoal } = props
  const value = run.values[name]
  const number = asNumber(value)
  const metric = run.metrics[name]
  const bad = number !== null && Number.isNaN(number)
  if (!goal) return <PlainRow {...props} />
  const bound = goal.bound ?? null
  return (
    <tr className="h-[42px] border-b border-line">
      <th scope="row" className="w-[36%] truncate leading-4" title={name}>
        {name}
        {arrow(goal)}
        <br />
        <span className="lab">{goalText(goal)}</span>
        {onGoal && (
          <button
            className="quiet-act ml-1.5"
            aria-label={`change the goal of ${name}`}
            onClick={() => onGoal(name)}
          >
            change
          </button>
        )}
      </th>
      <td className={`truncate text-right text-base ${bad ? 'text-bad' : ''}`} title={show(value)}>
        <b className="strong">
          <Changing>{show(value)}</Changing>
        </b>
      </td>
      <td className="w-8 pl-1 text-2xs text-ink3">{goal.unit}</td>
      <td className="w-[112px] pl-2">
        {bound !== null && number !== null && !bad && (
          <BoundPost value={number} bound={bound} higher={goal.direction === 'higher'} />
        )}
      </td>
      <td className="lab w-[104px] pl-2 leading-4">{metric && <Steps metric={metric} />}</td>
    </tr>
  )
}

/** A value that no goal judges takes one line. */
function PlainRow({ run, name, onGoal }: Parameters<typeof ResultRow>[0]) {
  const value = run.values[name]
  const number = asNumber(value)
  const metric = run.metrics[name]
  return (
    <tr className="h-6 border-b border-line">
      <th scope="row" className="truncate" title={name}>
        {name}
      </th>
      <td
        className={`strong truncate text-right ${number !== null && Number.isNaN(number) ? 'text-bad' : ''}`}
        title={show(value)}
      >
        <Changing>{show(value)}</Changing>
      </td>
      <td />
      <td className="lab truncate pl-2">{name in run.results ? 'result' : 'last value'}</td>
      <td className="lab truncate pl-2 text-right">
        {metric && name in run.results && `${metric.count.toLocaleString('en')} points `}
        {onGoal && (
          <button className="quiet-act" aria-label={`set a goal of ${name}`} onClick={() => onGoal(name)}>
            set a goal
          </button>
        )}
      </td>
    </tr>
  )
}

/** At which step a metric was best, and where it is now. */
function Steps({ metric }: { metric: RunDetail['metrics'][string] }) {
  return (
    <>
      {typeof metric.best_step === 'number' && <>best at step {metric.best_step.toLocaleString('en')}</>}
      <br />
      last {show(metric.last)}
    </>
  )
}

const RESULTS_SHOWN = 40

function Results({ run }: { run: RunDetail }) {
  const goals = new Map(run.goals.map((goal) => [goal.key, goal]))
  const keys = goalsFirst(Object.keys(run.values), run.goals)
  const [asking, setAsking] = useState<string | null>(null)
  const [all, setAll] = useState(false)
  const may = run.may.includes('describe')
  return (
    <Section className="col-span-5" title="Results against goals" fact="right of the post: met">
      <table className="w-full table-fixed">
        <tbody>
          {keys.slice(0, all ? keys.length : RESULTS_SHOWN).map((key) => (
            <ResultRow
              key={key}
              run={run}
              name={key}
              goal={goals.get(key)}
              onGoal={may ? setAsking : undefined}
            />
          ))}
        </tbody>
      </table>
      {keys.length > RESULTS_SHOWN && !all && (
        <p className="py-1">
          <button className="btn" onClick={() => setAll(true)}>
            Show {keys.length - RESULTS_SHOWN} more results
          </button>
        </p>
      )}
      {keys.length === 0 && (
        <p className="lab">
          {run.children.length
            ? 'Nothing in this run itself; see the runs under it.'
            : 'Nothing was measured yet.'}
        </p>
      )}
      {asking !== null && (
        <GoalDialog run={run} name={asking} goal={goals.get(asking)} onClose={() => setAsking(null)} />
      )}
    </Section>
  )
}
