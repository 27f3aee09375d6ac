/** The head of a run's page: what came of it, where it came from, and what may be done to it. */
import { useState } from 'react'
import { Link, useParams } from 'react-router'
import type { RunDetail } from '../../api/client'
import { LabelDialog, NoteDialog } from '../../parts/DescribeDialogs'
import { Changing, Status } from '../../parts/Marks'
import { useBinning } from '../../parts/useBinning'
import { progressText } from '../../parts/progress'
import { asNumber, duration, fullMoment, moment, plural, show } from '../../parts/values'
import { RenameDialog } from './EditDialogs'

/** What may be done to this run, and nothing that would be refused. */
export function Acts({ run, onRegister }: { run: RunDetail; onRegister: () => void }) {
  const [asking, setAsking] = useState<'note' | 'label' | 'rename' | null>(null)
  const { putAway, giveBack, pending } = useBinning(run.project)
  const close = () => setAsking(null)
  const about = { project: run.project, runs: [run.reference], onClose: close }
  const running = run.status === 'running'
  return (
    <>
      {run.may.includes('bin') &&
        (run.binned_at ? (
          <button className="btn btn-p" disabled={pending} onClick={() => giveBack([run.reference])}>
            Restore
          </button>
        ) : (
          <button
            className="btn"
            disabled={pending || running}
            title={running ? 'It is still running; end it first.' : undefined}
            onClick={() => putAway([run.reference])}
          >
            Bin
          </button>
        ))}
      {run.may.includes('describe') && (
        <>
          <button className="btn" onClick={() => setAsking('rename')}>
            Rename
          </button>
          <button className="btn" onClick={() => setAsking('label')}>
            Label
          </button>
          <button className="btn" onClick={() => setAsking('note')}>
            Note
          </button>
        </>
      )}
      <Link className="btn" to={`/${run.project}/e/${run.experiment}?sel=${run.number}~1`}>
        Select in {run.experiment}
      </Link>
      {run.generated.length > 0 && !run.binned_at && (
        <button className="btn btn-p" onClick={onRegister}>
          Register a version
        </button>
      )}
      {asking === 'note' && <NoteDialog project={run.project} things={[run.reference]} onClose={close} />}
      {asking === 'label' && <LabelDialog {...about} />}
      {asking === 'rename' && <RenameDialog run={run} onClose={close} />}
    </>
  )
}

export function Finding({ run }: { run: RunDetail }) {
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
  if (run.binned_at) {
    return (
      <>
        <b>Run {run.number} is in the bin</b> since {moment(run.binned_at)}
        {run.binned_by && `, put there by ${run.binned_by}`}.
      </>
    )
  }
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
  if (run.children.length > 0 && !figure) return <Group run={run} />
  if (run.status === 'running') {
    return (
      <>
        <b>Run {run.number} is running</b>
        {figure && (
          <>
            : <Changing>{figure}</Changing> so far
          </>
        )}
        {run.progress && <>, {progressText(run.progress)}</>}.
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

/** A parent run answers for the runs under it: how many there are, and which of them leads. */
function Group({ run }: { run: RunDetail }) {
  const goal = run.goals.find(({ key }) => run.children.some((child) => asNumber(child.values[key]) !== null))
  const count = plural(run.children.length, 'run')
  const sign = goal?.direction === 'lower' ? 1 : -1
  const leader = run.children
    .flatMap((child) => {
      const value = goal ? asNumber(child.values[goal.key]) : null
      return value === null || Number.isNaN(value) ? [] : [{ child, value }]
    })
    .sort((a, b) => sign * (a.value - b.value))[0]
  return (
    <>
      <b>
        Run {run.number} groups {count}
      </b>
      {leader && goal && (
        <>
          ; {leader.child.reference.split('/')[1]} leads on {goal.key}: {show(leader.value)}
          {goal.unit && ` ${goal.unit}`}
        </>
      )}
      .
    </>
  )
}

export function Origin({ run }: { run: RunDetail }) {
  const { project = '' } = useParams()
  return (
    <>
      <Status status={run.status} text={`${run.status} ${moment(run.ended_at ?? run.started_at)}`} />
      {' · '}started {fullMoment(run.started_at)}
      {run.ended_at ? `, took ${duration(run.started_at, run.ended_at)}` : ''} by {run.author} on{' '}
      <span className="mono">{run.host}</span>
      {run.name && ` · ${run.name}`}
      {run.imported_from && ` · imported from ${run.imported_from}`}
      {run.purged_at && (
        <b className="strong text-bad">
          {' '}
          · purged {moment(run.purged_at)}: only its inputs and outputs are known
        </b>
      )}
      {run.code?.commit && (
        <>
          {' · '}commit <span className="mono">{run.code.commit.slice(0, 8)}</span>
          {run.code.changed_files > 0 && ' with changes'}
        </>
      )}
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
