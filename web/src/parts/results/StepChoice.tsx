/** At which step of training something is shown: a slider over the steps at which it was kept. */
import type { KeptName } from '../../api/results'

export const stepsOf = (kept: KeptName): number[] =>
  [...new Set(kept.steps.map((found) => found.step).filter((step): step is number => step !== null))].sort(
    (a, b) => a - b,
  )

export function StepChoice(props: {
  steps: number[]
  step: number | null
  onChange: (step: number) => void
  name: string
}) {
  const { steps, step, onChange, name } = props
  const at = step === null ? steps.length - 1 : Math.max(0, steps.indexOf(step))
  const shown = steps[at] ?? 0
  return (
    <label className="flex items-center gap-2 py-1 text-xs text-ink2">
      step
      <input
        type="range"
        aria-label={`Step of ${name}`}
        aria-valuetext={`step ${shown}`}
        className="w-full max-w-64 accent-(--accent)"
        min={0}
        max={steps.length - 1}
        value={at}
        onChange={(event) => onChange(steps[Number(event.target.value)] ?? shown)}
      />
      <b className="strong whitespace-nowrap">{shown.toLocaleString('en')}</b>
      <span className="lab whitespace-nowrap">
        {at + 1} of {steps.length} kept
      </span>
    </label>
  )
}
