/** Rungs run through time, now at the right: a bar is a stay, a riser joins the stays of one version. */
import { useEffect, useRef, useState } from 'react'
import type { Model } from '../../api/client'
import { moment } from '../../parts/values'
import { staysOf, type Stay } from './stays'

const LEFT = 104
const RIGHT = 268

export function Ladder({ model }: { model: Model }) {
  const holder = useRef<HTMLDivElement>(null)
  const [width, setWidth] = useState(1232)
  const [now] = useState(() => Date.now())
  useEffect(() => {
    const element = holder.current
    if (!element) return
    const watch = new ResizeObserver(([entry]) => setWidth(entry?.contentRect.width ?? 1232))
    watch.observe(element)
    return () => watch.disconnect()
  }, [])
  const stays = staysOf(model)
  const rungs = [...model.stages].reverse()
  const gap = 62
  const height = 46 + gap * (rungs.length - 1) + 46
  const y = (stage: string) => 34 + rungs.findIndex((rung) => rung.name === stage) * gap
  const moments = [...stays.map((stay) => stay.from), now]
  const first = Math.min(...moments)
  const end = width - RIGHT
  // Acts may lie seconds or months apart: half of the way is time, half is order, so that none hides another.
  const order = [...new Set(stays.flatMap((stay) => [stay.from, ...(stay.to ? [stay.to] : [])]))].sort(
    (a, b) => a - b,
  )
  const x = (at: number) => {
    const byTime = (at - first) / Math.max(1, now - first)
    const place = order.filter((moment) => moment < at).length + (at >= now ? 1 : 0)
    return LEFT + (0.25 * byTime + 0.75 * (place / (order.length + 1))) * (end - LEFT)
  }
  const current = new Set(model.stages.map((stage) => stage.occupant))
  const text = model.stages
    .map((stage) => `${stage.name}: ${stage.occupant ? `version ${stage.occupant}` : 'empty'}`)
    .join('. ')
  return (
    <div ref={holder}>
      <svg
        width={width}
        height={height}
        role="img"
        aria-label={`Ladder of ${model.name} through time. ${text}.`}
      >
        <line x1={end} x2={end} y1="10" y2={height - 26} stroke="var(--ink)" />
        <text x={end} y={height - 10} textAnchor="middle" style={{ fill: 'var(--ink)', fontWeight: 600 }}>
          now
        </text>
        {stays.length > 0 && (
          <text x={LEFT} y={height - 10}>
            {moment(new Date(first).toISOString())}
          </text>
        )}
        {rungs.map((rung) => (
          <g key={rung.name}>
            <line x1={LEFT} x2={width} y1={y(rung.name)} y2={y(rung.name)} stroke="var(--line2)" />
            <text x="0" y={y(rung.name) + 4} style={{ fill: 'var(--ink)', fontWeight: 600, fontSize: 13 }}>
              {rung.name}
            </text>
          </g>
        ))}
        {stays.map((stay) => (
          <Bar
            key={`${stay.stage} ${stay.from}`}
            stay={stay}
            x={x}
            y={y}
            now={now}
            stays={stays}
            accent={current.has(stay.version)}
          />
        ))}
        {rungs.map((rung) => (
          <Present key={rung.name} model={model} stage={rung} x={end} y={y(rung.name)} width={width} />
        ))}
      </svg>
    </div>
  )
}

type BarProps = {
  stay: Stay
  stays: Stay[]
  x: (at: number) => number
  y: (stage: string) => number
  now: number
  accent: boolean
}

function Bar({ stay, stays, x, y, now, accent }: BarProps) {
  const colour = accent ? 'var(--accent)' : 'var(--ink3)'
  const from = x(stay.from)
  const to = x(stay.to ?? now)
  const level = y(stay.stage)
  const lower = stays.filter(
    (one) => one.version === stay.version && one.from < stay.from && y(one.stage) > level,
  )
  const below = lower.at(-1)
  const restored = stay.again
    ? stays
        .filter((one) => one.stage === stay.stage && one.version === stay.version && one.from < stay.from)
        .at(-1)
    : undefined
  return (
    <g>
      {below && !stay.again && (
        <path d={`M${from} ${y(below.stage)}V${level}`} stroke={colour} strokeWidth="1.2" fill="none" />
      )}
      <line
        x1={from}
        x2={Math.max(from + 2, to - 2)}
        y1={level}
        y2={level}
        stroke={colour}
        strokeWidth={stay.to === null ? 8 : 4}
      />
      <text x={from + 3} y={level - 9} style={{ fill: 'var(--ink)', fontWeight: 600, fontSize: 12 }}>
        {stay.version}
        {stay.again ? ' again' : ''}
      </text>
      {restored && (
        <>
          <path
            d={`M${from} ${level + 4}v8a6 6 0 0 1 -6 6H${x(restored.to ?? now) - 4}a6 6 0 0 1 -6 -6v-6m-3.5 5l3.5 -5l3.5 5`}
            fill="none"
            stroke="var(--bad)"
            strokeWidth="1.5"
          />
          <text x={from + 8} y={level + 20} style={{ fill: 'var(--bad)' }}>
            rolled back to {stay.version}
          </text>
        </>
      )}
      {stay.end === 'demoted' && (
        <text x={to + 2} y={level + 16} style={{ fill: 'var(--bad)' }}>
          demoted
        </text>
      )}
    </g>
  )
}

type PresentProps = { model: Model; stage: Model['stages'][number]; x: number; y: number; width: number }

function Present({ model, stage, x, y, width }: PresentProps) {
  const version = model.versions.find((one) => one.number === stage.occupant)
  const second =
    stage.warning ??
    [version?.review, model.lead === stage.occupant ? 'lead version' : ''].filter(Boolean).join(' · ')
  return (
    <g>
      <rect x={x + 14} y={y - 20} width={Math.max(0, width - x - 14)} height="40" fill="var(--surface)" />
      {stage.occupant ? (
        <>
          <text x={x + 22} y={y + 10} style={{ fill: 'var(--ink)', fontSize: 28, fontWeight: 650 }}>
            {stage.occupant}
          </text>
          <text x={x + 56} y={y - 3} style={{ fontSize: 12, fill: 'var(--ink2)' }}>
            since {moment(stage.since)}, {stage.placed_by}
          </text>
          <text
            x={x + 56}
            y={y + 13}
            style={{ fontSize: 12, fill: stage.warning ? 'var(--bad)' : 'var(--ink2)' }}
          >
            {second}
          </text>
        </>
      ) : (
        <>
          <line x1={x + 22} x2={x + 36} y1={y} y2={y} stroke="var(--line2)" strokeWidth="2" />
          <text x={x + 56} y={y + 4} style={{ fontSize: 12 }}>
            empty
          </text>
        </>
      )}
    </g>
  )
}
