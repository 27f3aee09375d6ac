/** What the charts of the lens share: what they are given, what stands in their place, which run a mark is. */
import type { RunPage } from '../../../api/client'
import type { Drawn } from '../../../api/comparing'
import type { Selection } from '../../../parts/selection'
import { useMoreHeight } from '../LensEdge'

const OWN_HEIGHT = 250

/** How high a chart of the lens is, as the person dragged it. */
export const useLensHeight = () => OWN_HEIGHT + useMoreHeight()

export type LensProps = {
  place: { project: string; experiment: string }
  page: RunPage
  query: string
  sort: string
  pareto: string
  selection: Selection
  onOpen: (reference: string) => void
}

export const byReference =
  (drawn: Drawn | undefined, onOpen: (reference: string) => void) => (at: number) => {
    const run = drawn?.runs[at]
    if (run) onOpen(run.reference)
  }

/** What is said of values outside of a scale that fits the others. */
export const saidOutside = (count: number) =>
  count ? `, ${count} outside the scale (log shows ${count === 1 ? 'it' : 'them'})` : ''

export const beyond = (drawn: Drawn | undefined) =>
  drawn?.left_out ? ` · the first ${drawn.runs.length.toLocaleString('en')} of more` : ''

export function columnIn(drawn: Drawn | undefined, text: string) {
  return drawn?.columns.find((column) => column.text === text)
}

export function Empty({ text }: { text: string }) {
  const height = useLensHeight()
  return (
    <p className="grid place-items-center text-xs text-ink3" style={{ height }}>
      {text}
    </p>
  )
}
