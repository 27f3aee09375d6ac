/** What people said of a run and did to it: history, and the runs under it. */
import { Link } from 'react-router'
import type { RunDetail } from '../../api/client'
import { useJournal } from '../../api/queries'
import { Section, Status } from '../../parts/Marks'
import { arrow, decimalsOf, fullMoment, moment, plural, show } from '../../parts/values'

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
        <table className="w-full text-sm" aria-label="Children">
          <thead>
            <tr className="h-7 border-b border-line2 text-xs text-ink2">
              <th scope="col">Run</th>
              <th scope="col">Status</th>
              {goals.map((goal) => (
                <th key={goal.key} scope="col" className={cell}>
                  {goal.key}
                  {arrow(goal)}
                </th>
              ))}
              {differing.slice(0, 8).map((key) => (
                <th key={key} scope="col" className={`mono ${cell}`}>
                  {key}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {run.children.map((child) => (
              <tr key={child.reference} className="h-7 border-b border-line">
                <th scope="row" className="whitespace-nowrap">
                  <Link className="link" to={`/${run.project}/e/${child.reference}`}>
                    {child.reference}
                  </Link>{' '}
                  <span className="text-ink2">{child.name}</span>
                </th>
                <td className="text-xs">
                  <Status status={child.status} text={moment(child.ended_at ?? child.started_at)} />
                </td>
                {goals.map((goal) => (
                  <td key={goal.key} className={cell}>
                    {goal.key in child.values ? show(child.values[goal.key], decimals.get(goal.key)) : '–'}
                  </td>
                ))}
                {differing.slice(0, 8).map((key) => (
                  <td key={key} className={cell}>
                    {key in child.params ? show(child.params[key]) : '–'}
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </Section>
  )
}
