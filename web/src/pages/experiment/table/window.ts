/** Which columns are in sight: those between the left and the right edge of the table, and a few beside them. */
import { useEffect, useState, type RefObject } from 'react'
import { NAME_WIDTH, STARTED_WIDTH, type Shape } from './shapes'

/** Drawn beside what is in sight, in pixels, so that little steps draw nothing anew. */
const BESIDE = 400

type Window = [from: number, to: number]

function windowOf(shapes: Shape[], left: number, width: number): Window {
  let at = NAME_WIDTH + STARTED_WIDTH
  let from = shapes.length
  let to = 0
  shapes.forEach((column, index) => {
    const end = at + column.width
    if (end >= left - BESIDE && at <= left + width + BESIDE) {
      from = Math.min(from, index)
      to = index + 1
    }
    at = end
  })
  return [Math.min(from, to), to]
}

export function useColumnWindow(holder: RefObject<HTMLDivElement | null>, shapes: Shape[]): Window {
  const [seen, setSeen] = useState({ left: 0, width: 1_600 })
  useEffect(() => {
    const held = holder.current
    if (!held) return
    const look = () =>
      setSeen((before) => {
        // In steps, so that scrolling up and down never asks.
        const left = Math.floor(held.scrollLeft / 200) * 200
        const width = held.clientWidth + 200
        return before.left === left && before.width === width ? before : { left, width }
      })
    look()
    held.addEventListener('scroll', look, { passive: true })
    const sizes = new ResizeObserver(look)
    sizes.observe(held)
    return () => {
      held.removeEventListener('scroll', look)
      sizes.disconnect()
    }
  }, [holder])
  return windowOf(shapes, seen.left, seen.width)
}
