/** How far a run is, and when it is expected to end, in words. */
import type { Schemas } from '../api/client'

export function progressText(progress: Schemas['Progress']): string {
  const { done, total } = progress
  return total
    ? `${done.toLocaleString('en')} of ${total.toLocaleString('en')} done`
    : `${done.toLocaleString('en')} done`
}

/** How long until a moment: "8 s left", "42 min left"; nothing once it has passed. */
export function leftUntil(moment: string | null | undefined, now: number): string {
  if (!moment) return ''
  const seconds = (new Date(moment).getTime() - now) / 1000
  if (seconds <= 0) return 'about to end'
  if (seconds < 90) return `${Math.round(seconds)} s left`
  const minutes = Math.round(seconds / 60)
  return minutes < 90 ? `${minutes} min left` : `${(minutes / 60).toFixed(1)} h left`
}
