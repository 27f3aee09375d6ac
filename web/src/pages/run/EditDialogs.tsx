/** Changing what a run is called, what it was set to, and what its results are measured against. */
import { useState } from 'react'
import { useCorrect, useRename, useSetGoal } from '../../api/acts'
import { AGGREGATES, type Aggregate } from '../../api/aggregates'
import type { Goal, RunDetail } from '../../api/client'
import { DialogForm } from '../../parts/DialogForm'
import { plain, show } from '../../parts/values'

const LABEL = 'flex flex-col gap-1 text-xs text-ink2'
const FIELD = 'field h-8 text-sm'

export function RenameDialog({ run, onClose }: { run: RunDetail; onClose: () => void }) {
  const rename = useRename(run)
  const [name, setName] = useState(run.name ?? '')
  return (
    <DialogForm
      title={`Rename ${run.reference}`}
      act="Rename"
      error={rename.error}
      pending={rename.isPending}
      onSubmit={() => rename.mutate(name.trim() || null, { onSuccess: onClose })}
      onClose={onClose}
    >
      <label className={LABEL}>
        Name; empty takes it away
        <input
          className={FIELD}
          maxLength={200}
          value={name}
          onChange={(event) => setName(event.target.value)}
        />
      </label>
    </DialogForm>
  )
}

/** JSON where it is JSON, else the text itself: as the command line reads values. */
function typed(text: string): unknown {
  if (['NaN', 'Infinity', '-Infinity'].includes(text)) return { float: text }
  try {
    const found: unknown = JSON.parse(text)
    return found !== null && typeof found === 'object' && !Array.isArray(found) ? text : found
  } catch {
    return text
  }
}

const written = (value: unknown) => {
  const found = plain(value)
  return typeof found === 'string' && typed(found) === found
    ? found
    : typeof found === 'number' && !isFinite(found)
      ? show(value)
      : JSON.stringify(found)
}

export function CorrectDialog({ run, name, onClose }: { run: RunDetail; name: string; onClose: () => void }) {
  const correct = useCorrect(run)
  const [text, setText] = useState(written(run.params[name]))
  const [comment, setComment] = useState('')
  return (
    <DialogForm
      title={`Correct ${name} of ${run.reference}`}
      act="Correct"
      error={correct.error}
      pending={correct.isPending}
      onSubmit={() =>
        correct.mutate(
          { params: { [name]: typed(text) } as Record<string, never>, comment },
          { onSuccess: onClose },
        )
      }
      onClose={onClose}
    >
      <p className="text-xs text-ink2">
        For a value that was recorded wrongly. The history keeps both values.
      </p>
      <label className={LABEL}>
        Value; numbers, true, false, null and lists as in JSON, all else is text
        <input className={`${FIELD} mono`} value={text} onChange={(event) => setText(event.target.value)} />
      </label>
      <label className={LABEL}>
        Why
        <input
          className={FIELD}
          maxLength={2000}
          value={comment}
          onChange={(event) => setComment(event.target.value)}
        />
      </label>
    </DialogForm>
  )
}

export function GoalDialog(props: {
  run: RunDetail
  name: string
  goal: Goal | undefined
  onClose: () => void
}) {
  const { run, name, goal, onClose } = props
  const set = useSetGoal(run)
  const [direction, setDirection] = useState<string>(goal?.direction ?? 'higher')
  const [bound, setBound] = useState(
    goal?.bound === null || goal?.bound === undefined ? '' : String(goal.bound),
  )
  const [unit, setUnit] = useState(goal?.unit ?? '')
  const [aggregate, setAggregate] = useState<Aggregate>((goal?.aggregate as Aggregate | undefined) ?? 'best')
  const submit = () =>
    set.mutate(
      {
        key: name,
        direction: direction === 'none' ? null : (direction as 'higher' | 'lower'),
        unit: unit.trim() || null,
        bound: bound.trim() ? Number(bound) : null,
        aggregate,
      },
      { onSuccess: onClose },
    )
  return (
    <DialogForm
      title={`Goal of ${name} in ${run.experiment}`}
      act="Set goal"
      error={set.error}
      pending={set.isPending}
      onSubmit={submit}
      onClose={onClose}
    >
      <p className="text-xs text-ink2">
        Holds for every run of {run.experiment}: best runs, arrows, sorting and charts follow it.
      </p>
      <div className="grid grid-cols-2 gap-3">
        <label className={LABEL}>
          Better is
          <select className={FIELD} value={direction} onChange={(event) => setDirection(event.target.value)}>
            <option value="higher">higher</option>
            <option value="lower">lower</option>
            <option value="none">no goal</option>
          </select>
        </label>
        <label className={LABEL}>
          Good enough from
          <input
            className={FIELD}
            type="number"
            step="any"
            value={bound}
            onChange={(event) => setBound(event.target.value)}
          />
        </label>
        <label className={LABEL}>
          Unit
          <input
            className={FIELD}
            maxLength={20}
            value={unit}
            onChange={(event) => setUnit(event.target.value)}
          />
        </label>
        <label className={LABEL}>
          Of a metric show its
          <select
            className={FIELD}
            value={aggregate}
            onChange={(event) => setAggregate(event.target.value as Aggregate)}
          >
            {AGGREGATES.map((word) => (
              <option key={word}>{word}</option>
            ))}
          </select>
        </label>
      </div>
    </DialogForm>
  )
}
