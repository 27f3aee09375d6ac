/** One grammar for every judgement: the dark vertical is zero or the bound, right of it is better or met. */

const clamp = (at: number, width: number) => Math.max(5, Math.min(width - 5, at))

/** A value against its goal's bound. */
export function BoundPost({
  value,
  bound,
  higher,
  width = 104,
}: {
  value: number
  bound: number
  higher: boolean
  width?: number
}) {
  const met = higher ? value >= bound : value <= bound
  const span = Math.max(Math.abs(bound) * 0.25, Math.abs(value - bound), 1e-12)
  const at = clamp(width / 2 + (((value - bound) * (higher ? 1 : -1)) / span) * (width / 2 - 6), width)
  const tone = met ? 'var(--accent)' : 'var(--bad)'
  return (
    <svg width={width} height={20} role="img" aria-label={met ? 'goal met' : 'goal not met'}>
      <line x1="0" x2={width} y1="10.5" y2="10.5" stroke="var(--line)" />
      <line x1={width / 2} x2={width / 2} y1="0" y2="20" stroke="var(--ink)" strokeWidth="1.5" />
      {met ? (
        <circle cx={at} cy="10" r="4" fill={tone} />
      ) : (
        <path d={`M${at - 4} 6l8 8m0-8l-8 8`} stroke={tone} strokeWidth="2" />
      )}
    </svg>
  )
}

/**
 * A change with its interval: right of the vertical is better, whatever the goal's direction. Filled: beyond noise;
 * hollow: within noise; dashed without an interval: noise unknown. Each row has its own scale.
 */
export function DifferencePost(props: {
  change: number
  low: number | null
  high: number | null
  beyond: boolean | null
  verdict: 'better' | 'worse' | 'equal' | null
  higher: boolean
  said: string
  width?: number
}) {
  const { change, low, high, beyond, verdict, higher, said, width = 124 } = props
  const way = higher ? 1 : -1
  const span = Math.max(Math.abs(change), Math.abs(low ?? 0), Math.abs(high ?? 0)) * 1.08 || 1
  const at = (value: number) => clamp(width / 2 + ((value * way) / span) * (width / 2 - 5), width)
  const tone =
    beyond === false || verdict === 'equal' || verdict === null
      ? 'var(--ink3)'
      : verdict === 'worse'
        ? 'var(--bad)'
        : 'var(--accent)'
  const ends = low === null || high === null ? null : [at(low), at(high)]
  return (
    <svg width={width} height={16} className="inline-block align-middle" role="img" aria-label={said}>
      <line x1="0" x2={width} y1="8" y2="8" stroke="var(--line)" />
      <line x1={width / 2} x2={width / 2} y1="0" y2="16" stroke="var(--ink)" strokeWidth="1.2" />
      {ends ? (
        <>
          <line x1={ends[0]} x2={ends[1]} y1="8" y2="8" stroke={tone} strokeWidth="1.8" />
          {ends.map((end) => (
            <line key={end} x1={end} x2={end} y1="4.5" y2="11.5" stroke={tone} strokeWidth="1.4" />
          ))}
        </>
      ) : (
        <line
          x1={width / 2}
          x2={at(change)}
          y1="8"
          y2="8"
          stroke={tone}
          strokeWidth="1.4"
          strokeDasharray="3 2"
        />
      )}
      <circle
        cx={at(change)}
        cy="8"
        r="3.6"
        fill={beyond ? tone : 'var(--surface)'}
        stroke={tone}
        strokeWidth="1.4"
      />
    </svg>
  )
}

/** What stands over a column of such posts. */
export const PostHead = () => (
  <span className="flex w-[124px] justify-between">
    <span>worse</span>
    <span>better</span>
  </span>
)
