/** What people said of a run and did to it: history, and the runs under it. */
import { Link } from 'react-router'
import type { RunDetail } from '../../api/client'
import { useJournal } from '../../api/queries'
import { Section, Status } from '../../parts/Marks'
import { arrow, decimalsOf, fullMoment, moment, plural, show } from '../../parts/values'
import { DataTable } from '../../parts/DataTable'

type Child = RunDetail['children'][number]

/** The journal's words, where they need an object to read well. */
const ACTS: Record<string, string> = {
  began: 'began it',
  ended: 'ended it',
  resumed: 'took it up again',
  lost: 'took it for lost',
  binned: 'put it into the bin',
  restored: 'took it out of the bin',
  renamed: 'renamed it',
  labelled: 'labelled it',
  corrected: 'corrected it',
}

const stated = (state: unknown): string =>
  state === null || state === undefined
    ? ''
    : typeof state === 'object'
      ? Object.entries(state)
          .map(([key, value]) => `${key} ${value === null ? 'none' : show(value)}`)
          .join(', ')
      : String(state)

export function History({ run }: { run: RunDetail }) {
  const { data } = useJournal(run.project, `run:${run.reference}`)
  return (
    <Section className="col-span-6" title="History" fact={data && plural(data.length, 'act')}>
      <ol className="text-xs">
        {data?.map((entry) => {
          const change = [stated(entry.before), stated(entry.after)].filter(Boolean).join(' → ')
          return (
            <li key={entry.entry_id} className="flex gap-3 border-b border-line py-[3px]">
              <time className="w-[92px] shrink-0 text-ink3" dateTime={entry.at} title={fullMoment(entry.at)}>
                {moment(entry.at)}
              </time>
              <span className="min-w-0 break-words">
                {entry.person ?? 'The service'} {ACTS[entry.act] ?? entry.act}
                {change && <span className="text-ink2">: {change}</span>}
                {entry.comment && <span className="text-ink2">, “{entry.comment}”</span>}
              </span>
            </li>
          )
        })}
      </ol>
    </Section>
  )
}

export function Children({ run }: { run: RunDetail }) {
  if (run.children.length === 0) return null
  const goals = run.goals.filter((goal) => run.children.some((child) => goal.key in child.values))
  const differing = [...new Set(run.children.flatMap((child) => Object.keys(child.params)))].filter(
    (key) => new Set(run.children.map((child) => JSON.stringify(child.params[key]))).size > 1,
  )
  const decimals = new Map(
    goals.map((goal) => [goal.key, decimalsOf(run.children.map((child) => child.values[goal.key]))]),
  )
  const cell = 'truncate px-2 text-right'
  return (
    <Section className="col-span-12" title="Children" fact={plural(run.children.length, 'run')}>
      <div className="max-h-80 overflow-auto" tabIndex={0} role="region" aria-label="Runs under this one">
        <DataTable
          label="Children"
          className="w-full text-sm"
          rows={run.children}
          keyOf={(child) => child.reference}
          head="h-7 border-b border-line2 text-xs text-ink2"
          columns={[
            {
              name: 'Run',
              heads: true,
              className: 'whitespace-nowrap',
              cell: (child) => (
                <>
                  <Link className="link" to={`/${run.project}/e/${child.reference}`}>
                    {child.reference}
                  </Link>{' '}
                  <span className="text-ink2">{child.name}</span>
                </>
              ),
            },
            {
              name: 'Status',
              className: 'text-xs',
              cell: (child) => (
                <Status status={child.status} text={moment(child.ended_at ?? child.started_at)} />
              ),
            },
            ...goals.map((goal) => ({
              name: `value ${goal.key}`,
              head: `${goal.key}${arrow(goal)}`,
              headClass: cell,
              className: cell,
              cell: (child: Child) =>
                goal.key in child.values ? show(child.values[goal.key], decimals.get(goal.key)) : '–',
            })),
            ...differing.slice(0, 8).map((key) => ({
              name: `setting ${key}`,
              head: key,
              headClass: `mono ${cell}`,
              className: cell,
              cell: (child: Child) => (key in child.params ? show(child.params[key]) : '–'),
            })),
          ]}
        />
      </div>
    </Section>
  )
}
