/** The thin line inside a cell: one scale per column; the hairline is the leader's level. */
import { look } from '../parts/looks'

type Line = { steps: number[]; values: (number | null)[] }
export type TrendScale = { low: number; high: number; steps: number; leader: number | null }

export function scaleOf(lines: Line[], leader: number | null): TrendScale | null {
  const values = lines.flatMap((line) => line.values.filter((value): value is number => value !== null))
  if (values.length === 0) return null
  const sorted = [...values].sort((a, b) => a - b)
  // The outermost fortieth on each side is cut, so that one wild run does not flatten everything.
  const low = sorted[Math.floor(sorted.length * 0.025)] ?? 0
  const high = sorted[Math.ceil(sorted.length * 0.975) - 1] ?? 1
  return { low, high, steps: Math.max(1, ...lines.map((line) => line.steps.at(-1) ?? 0)), leader }
}

export function Trend({
  line,
  scale,
  slot,
  running,
  width = 72,
}: {
  line: Line
  scale: TrendScale
  slot: number
  running: boolean
  width?: number
}) {
  const height = 20
  const y = (value: number) =>
    height -
    2 -
    ((Math.min(scale.high, Math.max(scale.low, value)) - scale.low) / (scale.high - scale.low || 1)) *
      (height - 5)
  const x = (step: number) => 1 + (step / scale.steps) * (width - 7)
  const points = line.values.flatMap((value, at) =>
    value === null ? [] : [[x(line.steps[at] ?? 0), y(value)] as const],
  )
  const last = points.at(-1)
  const { colour, dash } = look(slot)
  const stroke = slot ? colour : 'var(--ink3)'
  const broken = line.values.at(-1) === null
  return (
    <svg width={width} height={height} className="shrink-0" aria-hidden>
      {scale.leader !== null && (
        <line
          x1="1"
          x2={width - 4}
          y1={y(scale.leader)}
          y2={y(scale.leader)}
          stroke="var(--line2)"
          strokeWidth=".75"
        />
      )}
      <path
        d={points
          .map((point, at) => `${at ? 'L' : 'M'}${point[0].toFixed(1)} ${point[1].toFixed(1)}`)
          .join('')}
        fill="none"
        stroke={stroke}
        strokeWidth={slot ? 1.6 : 1.1}
        strokeDasharray={dash.map((part) => part * 0.75).join(' ')}
      />
      {last && running && <circle cx={last[0]} cy={last[1]} r="2.4" fill={stroke} />}
      {last && broken && (
        <path d={`M${last[0] - 2.5} ${last[1] - 2.5}l5 5m0-5l-5 5`} stroke="var(--bad)" strokeWidth="1.4" />
      )}
    </svg>
  )
}
