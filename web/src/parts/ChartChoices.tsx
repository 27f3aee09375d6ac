/** Choices that every chart of curves offers; they live in the address. */
import type { Axis } from '../charts/arrange'
import { useAddress } from './selection'

export type Choices = { axis: Axis; log: boolean; smoothing: number }

export function useChartChoices(): Choices {
  const { params } = useAddress()
  const axis = params.get('x')
  const smoothing = Number(params.get('smooth') ?? 0)
  return {
    axis: axis === 'elapsed' || axis === 'clock' ? axis : 'step',
    log: params.get('scale') === 'log',
    smoothing: smoothing >= 0 && smoothing < 1 ? smoothing : 0,
  }
}

export function ChartChoices({ choices }: { choices: Choices }) {
  const { change } = useAddress()
  return (
    <>
      <label className="flex items-center gap-1">
        x
        <select
          aria-label="x axis"
          className="field py-0 text-xs"
          value={choices.axis}
          onChange={(event) => change('x', event.target.value === 'step' ? null : event.target.value)}
        >
          <option value="step">step</option>
          <option value="elapsed">elapsed</option>
          <option value="clock">clock</option>
        </select>
      </label>
      <label className="flex items-center gap-1">
        <input
          type="checkbox"
          checked={choices.log}
          onChange={(event) => change('scale', event.target.checked ? 'log' : null)}
        />
        log
      </label>
      <label className="flex items-center gap-1.5">
        smooth
        <input
          type="range"
          min="0"
          max="0.95"
          step="0.05"
          className="w-20 accent-(--accent)"
          value={choices.smoothing}
          onChange={(event) => change('smooth', Number(event.target.value) ? event.target.value : null)}
        />
        <span className="w-7">{choices.smoothing.toFixed(2)}</span>
      </label>
    </>
  )
}
