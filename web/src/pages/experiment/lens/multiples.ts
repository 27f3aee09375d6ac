/** Small multiples: the same chart once for each value of a column, on the same scales. */
import type { Drawn, DrawnColumn } from '../../../api/comparing'
import { levelsOf } from '../../../charts/drawnColumns'
import { show } from '../../../parts/values'

const MOST = 12

export type Panel = { name: string; drawn: Drawn }
export type Panels = { panels: Panel[]; leftOut: number; without: number }

function only(drawn: Drawn, keep: (at: number) => boolean): Drawn {
  const places = drawn.runs.map((_, at) => at).filter(keep)
  return {
    ...drawn,
    runs: places.map((at) => drawn.runs[at]!),
    columns: drawn.columns.map((column) => ({ ...column, values: places.map((at) => column.values[at]!) })),
  }
}

/** One part for each value of the column, in order; how many values have none, and how many runs lack the column. */
export function panelsBy(drawn: Drawn, by: DrawnColumn): Panels {
  const levels = levelsOf(by)
  const texts = by.values.map((value) => (value === null ? null : show(value)))
  const panels = levels
    .slice(0, MOST)
    .map((name) => ({ name, drawn: only(drawn, (at) => texts[at] === name) }))
  return {
    panels,
    leftOut: new Set(texts.filter((text) => text !== null)).size - panels.length,
    without: texts.filter((text) => text === null).length,
  }
}
