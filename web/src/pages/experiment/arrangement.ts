/** The arrangement of the page as the address holds it, and the ways to change it. */
import { useMemo } from 'react'
import type { Schemas } from '../../api/client'
import { useAddress } from '../../parts/selection'
import { parts, sortParts, word } from './words'

const OF_TIME = new Set(['', 'number', 'started', 'ended', 'duration', 'name', 'status', 'author', 'host'])

/** `depth~120,recall~90` */
function readWidths(text: string | null): Map<string, number> {
  const found = new Map<string, number>()
  for (const part of parts(text)) {
    const at = part.lastIndexOf('~')
    const width = Number(part.slice(at + 1))
    if (at > 0 && width >= 48 && width <= 600) found.set(part.slice(0, at), width)
  }
  return found
}

export function useArrangement(summary: Schemas['Experiment'] | undefined) {
  const { params, change, changeAll } = useAddress()
  const query = params.get('q') ?? ''
  const goal = summary?.goals[0]
  const sort = params.get('sort') ?? (goal ? word(goal.key) : '')
  const cols = params.get('cols')
  const group = params.get('group')
  const pin = params.get('pin')
  const wide = params.get('wide')
  const pareto = params.get('pareto') ?? ''
  // In the order of time children stand under their parents; where values are ranked, every run stands for itself.
  const folds = !query && !pareto && OF_TIME.has(sortParts(sort)[0]?.name ?? '')
  const fold = !group && (params.has('fold') ? params.get('fold') === 'yes' : folds)
  return useMemo(
    () => ({
      params,
      change,
      changeAll,
      query,
      sort,
      columns: parts(cols),
      group,
      fold,
      pareto,
      pins: parts(pin),
      widths: readWidths(wide),
    }),
    [params, change, changeAll, query, sort, cols, group, fold, pareto, pin, wide],
  )
}

export type Arrangement = ReturnType<typeof useArrangement>
