/** The curves of one metric for a chart: whole, and finer where a stretch is zoomed to. */
import { useMemo } from 'react'
import type { Curve } from '../api/client'
import { useCurves } from '../api/queries'
import { stepsWithin } from '../charts/arrange'
import type { Choices } from './ChartChoices'

export function useZoomedCurves(
  project: string,
  metric: string | undefined,
  runs: string[],
  choices: Choices,
): Curve[] | undefined {
  const { axis, zoom, against } = choices
  const whole = useCurves(project, metric, runs, { width: 600, against })
  const steps = useMemo(
    () => (zoom && whole.data ? stepsWithin(whole.data.curves, axis, zoom) : null),
    [zoom, whole.data, axis],
  )
  const fine = useCurves(project, metric, runs, { width: 600, steps, against }, steps !== null)
  return (steps && fine.data ? fine.data : whole.data)?.curves
}
