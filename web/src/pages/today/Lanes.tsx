/** A bar for each run since the last visit, one lane per experiment, the present at the right. */
import { Link } from 'react-router'
import type { Schemas, SeenRun } from '../../api/client'
import { plural } from '../../parts/values'

const LANES = 6
const MARKS = 6

const at = (text: string) => new Date(text).getTime()
const clock = new Intl.DateTimeFormat('en-GB', { hour: '2-digit', minute: '2-digit' })
const seconds = new Intl.DateTimeFormat('en-GB', { hour: '2-digit', minute: '2-digit', second: '2-digit' })
const day = new Intl.DateTimeFormat('en-GB', { weekday: 'short', day: 'numeric', month: 'short' })

const TONE: Record<string, string> = {
  running: 'var(--accent)',
  failed: 'var(--bad)',
  lost: 'var(--bad)',
  stopped: 'var(--ink3)',
}

export function Lanes({ data }: { data: Schemas['Today'] }) {
  const runs = [...data.running, ...data.ended]
  if (runs.length === 0) return null
  const end = at(data.at)
  // From the first of these runs on: a quiet night is no news.
  const first = Math.min(...runs.map((run) => at(run.started_at)))
  const begin = Math.max(Math.min(at(data.since), end - 60_000), first - (end - first) * 0.02)
  const span = Math.max(60_000, end - begin)
  const lanes = new Map<string, SeenRun[]>()
  for (const run of runs) {
    const name = `${run.project} ${run.experiment}`
    lanes.set(name, [...(lanes.get(name) ?? []), run])
  }
  const place = (moment: number) => 100 * Math.max(0, Math.min(1, (moment - begin) / span))
  const hidden = lanes.size - LANES
  return (
    <section aria-label="Runs over time" className="border-y border-line px-6 py-2">
      {[...lanes].slice(0, LANES).map(([name, found]) => (
        <div key={name} className="flex h-[30px] items-center">
          <span className="strong w-[120px] shrink-0 truncate text-xs">{name.split(' ')[1]}</span>
          <svg
            className="h-[30px] flex-1"
            role="group"
            aria-label={`${plural(found.length, 'run')} of ${name.split(' ')[1]}`}
          >
            <line x1="0" x2="100%" y1="15" y2="15" stroke="var(--line)" />
            {found.map((run) => (
              <Bar key={run.reference} run={run} place={place} end={end} />
            ))}
            <line x1="100%" x2="100%" y1="0" y2="30" stroke="var(--ink)" strokeWidth="2" />
          </svg>
        </div>
      ))}
      <div className="ml-[120px] flex justify-between">
        {Array.from({ length: MARKS + 1 }, (_, mark) => begin + (span * mark) / MARKS).map((moment) => (
          <span key={moment} className="lab">
            {(span > 86_400_000 ? day : span < 600_000 ? seconds : clock).format(moment)}
          </span>
        ))}
      </div>
      {hidden > 0 && <p className="lab">{hidden} more experiments are not drawn.</p>}
    </section>
  )
}

function Bar({ run, place, end }: { run: SeenRun; place: (moment: number) => number; end: number }) {
  const from = place(at(run.started_at))
  const till = place(run.ended_at ? at(run.ended_at) : end)
  const tone = TONE[run.status] ?? 'var(--ink2)'
  return (
    <Link
      to={`/${run.project}/e/${run.reference}`}
      aria-label={`${run.reference}, ${run.status}`}
      tabIndex={-1}
    >
      <title>{`${run.reference} ${run.name ?? ''} ${run.status}`}</title>
      <rect x={`${from}%`} width={`${Math.max(0.35, till - from)}%`} y="12" height="6" fill={tone} />
    </Link>
  )
}
