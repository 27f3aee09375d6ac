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

/** A change: how far to the better or worse, relative to the largest of its column. Hollow: noise unknown. */
export function ChangePost({
  share,
  verdict,
  width = 124,
}: {
  share: number
  verdict: 'better' | 'worse' | 'equal' | null
  width?: number
}) {
  if (verdict === null) return null
  const size = Math.min(1, Math.abs(share))
  const at = clamp(
    width / 2 + (verdict === 'worse' ? -1 : verdict === 'better' ? 1 : 0) * size * (width / 2 - 6),
    width,
  )
  const tone = verdict === 'worse' ? 'var(--bad)' : verdict === 'better' ? 'var(--accent)' : 'var(--ink3)'
  return (
    <svg width={width} height={16} className="inline-block align-middle" role="img" aria-label={verdict}>
      <line x1="0" x2={width} y1="8" y2="8" stroke="var(--line)" />
      <line x1={width / 2} x2={at} y1="8" y2="8" stroke={tone} strokeWidth="1.5" />
      <line x1={width / 2} x2={width / 2} y1="0" y2="16" stroke="var(--ink)" strokeWidth="1.2" />
      <circle cx={at} cy="8" r="3.4" fill="var(--surface)" stroke={tone} strokeWidth="1.4" />
    </svg>
  )
}
