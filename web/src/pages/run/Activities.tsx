/** The pieces of work in a run along its time, each with what it measured, used and generated. */
import type { RunDetail } from '../../api/client'
import { Section } from '../../parts/Marks'
import { lasting, plural } from '../../parts/values'

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
      <table className="w-full table-fixed text-xs" aria-label="Activities">
        <tbody>
          {run.activities.map((one) => {
            const end = one.ended_at ?? now
            const left = (100 * (one.started_at - begin)) / span
            const width = Math.max(0.3, (100 * (end - one.started_at)) / span)
            const state = one.failed ? 'failed' : one.ended_at === null ? 'running' : ''
            return (
              <tr key={one.id} className="h-7 border-b border-line">
                <th scope="row" className="w-[150px] truncate pr-3" title={one.name}>
                  {one.name}
                </th>
                <td className="relative">
                  <svg width="100%" height="14" className="block" aria-hidden preserveAspectRatio="none">
                    <line x1="0" x2="100%" y1="7" y2="7" stroke="var(--line)" />
                    <rect
                      x={`${left}%`}
                      y="4"
                      width={`${width}%`}
                      height="6"
                      fill={one.failed ? 'var(--bad)' : state ? 'var(--accent)' : 'var(--ink2)'}
                    />
                  </svg>
                </td>
                <td className="w-[90px] pl-3 text-right">{took(end - one.started_at)}</td>
                <td className={`w-[64px] pl-3 ${one.failed ? 'text-bad' : 'text-accent'}`}>{state}</td>
                <td className="w-[300px] truncate pl-3 text-ink2">{partOf(run, one.name)}</td>
              </tr>
            )
          })}
        </tbody>
      </table>
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
