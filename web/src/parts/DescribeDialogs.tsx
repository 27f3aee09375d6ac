/** Dialogs that say something of one run or many: a note, a label. */
import { useState } from 'react'
import { useLabel, useNote } from '../api/acts'
import { DialogForm } from './DialogForm'
import { toast } from './Toasts'
import { plural } from './values'

type Props = { project: string; runs: string[]; onClose: () => void }

export const named = (runs: string[]) => (runs.length === 1 ? (runs[0] ?? '') : plural(runs.length, 'run'))

export function NoteDialog({ project, runs, onClose }: Props) {
  const note = useNote(project)
  const [text, setText] = useState('')
  const submit = () => {
    note.mutate(
      { runs, text },
      {
        onSuccess: () => {
          toast(`Noted on ${named(runs)}.`)
          onClose()
        },
      },
    )
  }
  return (
    <DialogForm
      title={`Note on ${named(runs)}`}
      act="Add note"
      error={note.error}
      pending={note.isPending}
      onSubmit={submit}
      onClose={onClose}
    >
      <label className="flex flex-col gap-1 text-xs text-ink2">
        Text, in Markdown
        <textarea
          className="field text-sm"
          rows={6}
          maxLength={50_000}
          required
          value={text}
          onChange={(event) => setText(event.target.value)}
        />
      </label>
    </DialogForm>
  )
}

export function LabelDialog({ project, runs, onClose }: Props) {
  const label = useLabel(project)
  const [key, setKey] = useState('')
  const [text, setText] = useState('')
  const submit = () => {
    label.mutate(
      { runs, labels: { [key.trim()]: text.trim() || null } },
      {
        onSuccess: () => {
          toast(text.trim() ? `Labelled ${named(runs)}.` : `Label ${key} taken from ${named(runs)}.`)
          onClose()
        },
      },
    )
  }
  return (
    <DialogForm
      title={`Label ${named(runs)}`}
      act="Set label"
      error={label.error}
      pending={label.isPending}
      onSubmit={submit}
      onClose={onClose}
    >
      <div className="grid grid-cols-2 gap-3">
        <label className="flex flex-col gap-1 text-xs text-ink2">
          Key
          <input
            className="field h-8 text-sm"
            required
            maxLength={250}
            value={key}
            onChange={(event) => setKey(event.target.value)}
          />
        </label>
        <label className="flex flex-col gap-1 text-xs text-ink2">
          Value; empty takes the label away
          <input
            className="field h-8 text-sm"
            maxLength={500}
            value={text}
            onChange={(event) => setText(event.target.value)}
          />
        </label>
      </div>
    </DialogForm>
  )
}
