/** Groups of replicates as curves: the mean as a line, with the edges of its band beside it. */
import type { GroupCurves } from '../api/comparing'
import type { Series } from './Curves'

export function banded(
  curves: GroupCurves['curves'],
  lookOf: (reference: string, at: number) => { label: string; slot: number },
): Series[] {
  return curves.flatMap((curve, at) => {
    const { label, slot } = lookOf(curve.run, at)
    const common = {
      name: curve.run,
      label: `${label}${curve.runs > 1 ? ` ×${curve.runs}` : ''}`,
      slot,
      status: 'finished',
      steps: curve.steps,
      times: curve.steps.map(() => 0),
    }
    const edges: Series[] =
      curve.runs > 1 && slot > 0
        ? [
            { ...common, values: curve.high, edge: 'high' },
            { ...common, values: curve.low, edge: 'low' },
          ]
        : []
    return [{ ...common, values: curve.mean }, ...edges]
  })
}
