/** Runs as Today lists them: those that run, those that ended, those that need a look. */
import { useState } from 'react'
import { Link } from 'react-router'
import type { SeenRun } from '../../api/client'
import { DataTable, type Column } from '../../parts/DataTable'
import { Changing, Section, Status } from '../../parts/Marks'
import { leftUntil, progressText } from '../../parts/progress'
import { arrow, duration, moment, show } from '../../parts/values'

const to = (run: SeenRun) => `/${run.project}/e/${run.reference}`

function Value({ run }: { run: SeenRun }) {
  if (!run.goal) return <span className="text-ink3">–</span>
  return (
    <>
      <span className="text-ink2">
        {run.goal.key}
        {arrow(run.goal)}
      </span>{' '}
      <b className="strong">
        <Changing>{show(run.value)}</Changing>
      </b>{' '}
      <span className="text-ink3">{run.goal.unit}</span>
    </>
  )
}

const keyOfRun = (run: SeenRun) => `${run.project} ${run.reference}`
const LINE = 'h-[30px] border-b border-line'

const WHO: Column<SeenRun> = {
  name: 'run',
  heads: true,
  className: 'w-[190px] truncate pr-3',
  title: (run) => run.name ?? undefined,
  cell: (run) => (
    <>
      <Link className="hover:underline" to={to(run)}>
        <span className="text-ink2">{run.experiment}</span> <b className="strong">{run.number}</b>
      </Link>{' '}
      <span className="text-xs text-ink3">{run.name}</span>
    </>
  ),
}

const AUTHOR: Column<SeenRun> = {
  name: 'author',
  right: true,
  className: 'w-[100px] truncate pl-3 text-xs',
  cell: (run) => run.author,
}

const VALUE: Column<SeenRun> = {
  name: 'value',
  className: 'truncate text-xs',
  cell: (run) => <Value run={run} />,
}

export function RunningNow({ runs, now }: { runs: SeenRun[]; now: string }) {
  return (
    <Section title="Running now" fact={runs.length}>
      <DataTable
        label="Running now"
        className="w-full table-fixed"
        rows={runs}
        keyOf={keyOfRun}
        line={LINE}
        columns={[
          WHO,
          {
            name: 'status',
            className: 'w-[180px] truncate text-xs',
            cell: (run) => (
              <Status
                status="running"
                text={run.progress ? progressText(run.progress) : `for ${duration(run.started_at, now)}`}
              />
            ),
          },
          {
            name: 'progress',
            className: 'w-[110px]',
            cell: (run) =>
              run.progress?.total ? <Bar done={run.progress.done / run.progress.total} /> : null,
          },
          VALUE,
          {
            name: 'end',
            right: true,
            className: 'w-[100px] text-xs text-ink2',
            title: (run) =>
              run.expected_by === 'earlier runs'
                ? 'as long as the last finished runs of the experiment took'
                : undefined,
            cell: (run) => (
              <>
                {run.expected_by === 'earlier runs' && 'about '}
                {leftUntil(run.expected_end, new Date(now).getTime())}
              </>
            ),
          },
          AUTHOR,
        ]}
      />
      {runs.length === 0 && <p className="lab">Nothing is running.</p>}
    </Section>
  )
}

function Bar({ done }: { done: number }) {
  const at = Math.min(1, done) * 96
  return (
    <svg width="100" height="10" role="img" aria-label={`${Math.round(Math.min(1, done) * 100)} % done`}>
      <line x1="2" x2="98" y1="5" y2="5" stroke="var(--line2)" strokeDasharray="1 3" />
      <line x1="2" x2={2 + at} y1="5" y2="5" stroke="var(--accent)" strokeWidth="2" />
      <circle cx={2 + at} cy="5" r="3" fill="var(--accent)" />
    </svg>
  )
}

const SHOWN = 14

export function Ended({ runs, more }: { runs: SeenRun[]; more: boolean }) {
  const [all, setAll] = useState(false)
  // The best so far come first, then the latest.
  const ordered = [...runs].sort((a, b) => Number(b.is_best) - Number(a.is_best))
  const shown = all ? ordered : ordered.slice(0, SHOWN)
  return (
    <Section title="Finished" fact={`${runs.length}${more ? ' and more' : ''}`}>
      <DataTable
        label="Finished"
        className="w-full table-fixed"
        rows={shown}
        keyOf={keyOfRun}
        line={LINE}
        columns={[
          WHO,
          VALUE,
          {
            name: 'best',
            className: 'strong w-[110px] text-xs text-accent',
            cell: (run) => run.is_best && 'best so far',
          },
          {
            name: 'status',
            className: 'w-[150px] text-xs text-ink2',
            cell: (run) => (
              <Status
                status={run.status}
                text={`${moment(run.ended_at)}, ${duration(run.started_at, run.ended_at)}`}
              />
            ),
          },
          AUTHOR,
        ]}
      />
      {ordered.length > shown.length && (
        <p className="py-1">
          <button className="btn" onClick={() => setAll(true)}>
            Show {ordered.length - shown.length} more
          </button>
        </p>
      )}
      {runs.length === 0 && <p className="lab">No run has finished since.</p>}
    </Section>
  )
}

export function NeedsALook({ runs }: { runs: SeenRun[] }) {
  if (runs.length === 0) return null
  return (
    <Section title="Needs a look" fact={runs.length}>
      <DataTable
        label="Needs a look"
        className="w-full table-fixed"
        rows={runs}
        keyOf={keyOfRun}
        line={LINE}
        columns={[
          WHO,
          {
            name: 'status',
            className: 'w-[80px] text-xs',
            cell: (run) => <Status status={run.status} text={run.status} />,
          },
          {
            name: 'why',
            className: 'truncate text-xs',
            title: (run) => run.look ?? '',
            cell: (run) => run.look,
          },
          {
            name: 'ended',
            right: true,
            className: 'w-[90px] text-xs text-ink2',
            cell: (run) => moment(run.ended_at),
          },
          AUTHOR,
        ]}
      />
    </Section>
  )
}
