/** The lower edge of the lens: dragged, or moved with the arrow keys, it makes the lens higher; the address keeps how much. */
import { useState } from 'react'
import { useAddress } from '../../parts/selection'

const LOWEST = -70
const HIGHEST = 700
const STEP = 20

const bounded = (more: number) => Math.round(Math.min(HIGHEST, Math.max(LOWEST, more)))

/** How many pixels the lens is higher than it is by itself. */
export function useMoreHeight(): number {
  const { params } = useAddress()
  const asked = Number(params.get('taller') ?? 0)
  return Number.isFinite(asked) ? bounded(asked) : 0
}

export function LensEdge() {
  const { change } = useAddress()
  const more = useMoreHeight()
  const [dragged, setDragged] = useState<{ from: number; by: number } | null>(null)
  const settle = (to: number) => change('taller', bounded(to) ? String(bounded(to)) : null)
  return (
    <div
      role="separator"
      aria-orientation="horizontal"
      aria-label="Height of the lens"
      aria-valuemin={LOWEST}
      aria-valuemax={HIGHEST}
      aria-valuenow={more}
      tabIndex={0}
      title="Drag to make the lens higher or lower, double-click for its own height"
      className="relative h-1.5 cursor-row-resize touch-none hover:bg-soft"
      style={dragged ? { transform: `translateY(${dragged.by}px)`, background: 'var(--accent)' } : undefined}
      onPointerDown={(event) => {
        event.currentTarget.setPointerCapture(event.pointerId)
        setDragged({ from: event.clientY, by: 0 })
      }}
      onPointerMove={(event) => {
        if (dragged) setDragged({ ...dragged, by: bounded(more + event.clientY - dragged.from) - more })
      }}
      onPointerUp={() => {
        if (dragged?.by) settle(more + dragged.by)
        setDragged(null)
      }}
      onPointerCancel={() => setDragged(null)}
      onDoubleClick={() => change('taller', null)}
      onKeyDown={(event) => {
        const by = event.key === 'ArrowDown' ? STEP : event.key === 'ArrowUp' ? -STEP : 0
        if (!by) return
        event.preventDefault()
        event.stopPropagation()
        settle(more + by)
      }}
    />
  )
}
