/** Gates along one post: the dark vertical is the bound, right of it is met; unmet ones first. */
import type { GateCheck } from '../../api/registry'
import { Section } from '../../parts/Marks'
import { DataTable } from '../../parts/DataTable'

const WIDTH = 150
const HEIGHT = 40
const MIDDLE = WIDTH / 2

/** The post runs through every row, however high. */
const POST = {
  backgroundImage: 'linear-gradient(var(--ink), var(--ink))',
  backgroundSize: '1.6px 100%',
  backgroundPosition: 'center',
  backgroundRepeat: 'no-repeat',
}

const clamp = (at: number) => Math.max(7, Math.min(WIDTH - 7, at))

type Place = { at: number; low?: number; high?: number }

/** Where the figure stands from the bound, and its interval, as shares of half the width; null where there is none. */
function placeOf({ kind, figures }: GateCheck): Place | null {
  const { value, at_least, at_most, gain, low, high } = figures
  if (kind === 'better' && typeof gain === 'number') {
    const span = Math.max(Math.abs(gain), Math.abs(low ?? 0), Math.abs(high ?? 0)) * 1.1 || 1
    return { at: gain / span, low: (low ?? gain) / span, high: (high ?? gain) / span }
  }
  if (kind !== 'bound' || typeof value !== 'number') return null
  const bound = at_least ?? at_most
  if (typeof bound !== 'number') return null
  const span = Math.max(Math.abs(bound) * 0.25, Math.abs(value - bound)) || 1
  return { at: ((value - bound) * (typeof at_least === 'number' ? 1 : -1)) / span }
}

function Mark({ check }: { check: GateCheck }) {
  const tone = check.met ? 'var(--accent)' : 'var(--bad)'
  const place = placeOf(check)
  const y = HEIGHT / 2
  const x = (share: number) => clamp(MIDDLE + share * (MIDDLE - 8))
  return (
    <svg
      width={WIDTH}
      height={HEIGHT}
      className="block"
      role="img"
      aria-label={check.met ? 'met' : 'not met'}
    >
      <line x1="0" x2={WIDTH} y1={y} y2={y} stroke="var(--line)" />
      {place === null ? (
        <line
          x1={check.met ? MIDDLE + 12 : MIDDLE - 22}
          x2={check.met ? MIDDLE + 22 : MIDDLE - 12}
          y1={y}
          y2={y}
          stroke={tone}
          strokeWidth="2.4"
          strokeDasharray={check.kind === 'approvals' && !check.met ? '2 2' : undefined}
        />
      ) : (
        <>
          {place.low !== undefined && place.high !== undefined && (
            <line x1={x(place.low)} x2={x(place.high)} y1={y} y2={y} stroke={tone} strokeWidth="2" />
          )}
          {check.met ? (
            <circle cx={x(place.at)} cy={y} r="4" fill={tone} />
          ) : (
            <path d={`M${x(place.at) - 4} ${y - 4}l8 8m0-8l-8 8`} stroke={tone} strokeWidth="2" fill="none" />
          )}
        </>
      )}
    </svg>
  )
}

export function Checks({ stage, checks }: { stage: string; checks: GateCheck[] }) {
  const unmet = checks.filter((check) => !check.met)
  const ordered = [...unmet, ...checks.filter((check) => check.met)]
  return (
    <Section
      title={`Gates to ${stage}`}
      fact={
        checks.length
          ? unmet.length
            ? `${checks.length - unmet.length} of ${checks.length} met, unmet first`
            : `all ${checks.length} met`
          : 'none: the review decides'
      }
    >
      {checks.length > 0 && (
        <DataTable
          label={`Gates to ${stage}`}
          className="w-full"
          rows={ordered}
          keyOf={(check) => check.asks}
          line="border-t border-line align-middle"
          head="lab h-6"
          columns={[
            {
              name: 'asks',
              heads: true,
              className: 'max-w-[240px] pr-3 text-xs font-normal',
              cell: (check) => check.asks,
            },
            {
              name: 'figures',
              head: (
                <span className="flex justify-between" style={{ width: WIDTH }}>
                  <span>short of it</span>
                  <span>met</span>
                </span>
              ),
              className: 'p-0',
              cell: (check) => (
                <div style={POST}>
                  <Mark check={check} />
                </div>
              ),
            },
            {
              name: 'found',
              headClass: 'pl-4',
              className: 'pl-4 text-xs',
              cell: (check) => (
                <>
                  <b className={check.met ? 'text-ink2' : 'strong text-bad'}>
                    {check.met ? 'met' : 'not met'}
                  </b>{' '}
                  <span className="text-ink2">{check.found}</span>
                </>
              ),
            },
          ]}
        />
      )}
    </Section>
  )
}
