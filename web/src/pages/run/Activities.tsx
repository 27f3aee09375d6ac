/** The pieces of work in a run along its time, each with what it measured, used and generated. */
import type { RunDetail } from '../../api/client'
import { Section } from '../../parts/Marks'
import { lasting, plural } from '../../parts/values'
import { DataTable } from '../../parts/DataTable'

const micros = (text: string) => new Date(text).getTime() * 1000

const took = (span: number) => lasting(span / 1e6)

export function Activities({ run }: { run: RunDetail }) {
  if (run.activities.length === 0) return null
  const begin = Math.min(micros(run.started_at), ...run.activities.map((one) => one.started_at))
  const now = run.ended_at
    ? micros(run.ended_at)
    : Math.max(micros(run.last_sign_at), ...run.activities.map((one) => one.ended_at ?? one.started_at))
  const span = Math.max(1, now - begin)
  return (
    <Section
      className="col-span-12"
      title="Activities"
      fact={`${plural(run.activities.length, 'activity', 'activities')} in ${took(span)}`}
    >
      <DataTable
        label="Activities"
        className="w-full table-fixed text-xs"
        rows={run.activities.map((one) => {
          const end = one.ended_at ?? now
          return {
            ...one,
            took: end - one.started_at,
            left: (100 * (one.started_at - begin)) / span,
            width: Math.max(0.3, (100 * (end - one.started_at)) / span),
            state: one.failed ? 'failed' : one.ended_at === null ? 'running' : '',
          }
        })}
        keyOf={(one) => one.id}
        columns={[
          {
            name: 'activity',
            heads: true,
            className: 'w-[150px] truncate pr-3',
            title: (one) => one.name,
            cell: (one) => one.name,
          },
          {
            name: 'when',
            className: 'relative',
            cell: (one) => (
              <svg width="100%" height="14" className="block" aria-hidden preserveAspectRatio="none">
                <line x1="0" x2="100%" y1="7" y2="7" stroke="var(--line)" />
                <rect
                  x={`${one.left}%`}
                  y="4"
                  width={`${one.width}%`}
                  height="6"
                  fill={one.failed ? 'var(--bad)' : one.state ? 'var(--accent)' : 'var(--ink2)'}
                />
              </svg>
            ),
          },
          { name: 'took', right: true, className: 'w-[90px] pl-3', cell: (one) => took(one.took) },
          {
            name: 'state',
            className: (one) => `w-[64px] pl-3 ${one.failed ? 'text-bad' : 'text-accent'}`,
            cell: (one) => one.state,
          },
          {
            name: 'part',
            className: 'w-[300px] truncate pl-3 text-ink2',
            cell: (one) => partOf(run, one.name),
          },
        ]}
      />
    </Section>
  )
}

/** What belongs to an activity: its metrics and results by their prefix, its inputs and outputs. */
function partOf(run: RunDetail, name: string): string {
  const keys = Object.keys(run.values).filter((key) => key.startsWith(`${name}/`))
  const links = (all: RunDetail['used']) =>
    all.filter((link) => link.activity === name).map((link) => link.reference)
  return [
    keys.length ? keys.map((key) => key.slice(name.length + 1)).join(', ') : '',
    links(run.used).length ? `used ${links(run.used).join(', ')}` : '',
    links(run.generated).length ? `generated ${links(run.generated).join(', ')}` : '',
  ]
    .filter(Boolean)
    .join(' · ')
}
