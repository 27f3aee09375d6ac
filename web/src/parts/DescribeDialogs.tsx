/** Dialogs that say something of one run or many: a note, a label. */
import { useState, type FormEvent } from 'react'
import { useLabel, useNote } from '../api/acts'
import { Modal } from './Modal'
import { toast } from './Toasts'
import { plural } from './values'

type Props = { project: string; runs: string[]; onClose: () => void }

function Foot({
  error,
  pending,
  act,
  onClose,
}: {
  error: Error | null
  pending: boolean
  act: string
  onClose: () => void
}) {
  return (
    <>
      {error && (
        <p role="alert" className="text-xs text-bad">
          {error.message}
        </p>
      )}
      <div className="flex justify-end gap-2">
        <button type="button" className="btn" onClick={onClose}>
          Cancel
        </button>
        <button className="btn btn-p" disabled={pending}>
          {act}
        </button>
      </div>
    </>
  )
}

export const named = (runs: string[]) => (runs.length === 1 ? (runs[0] ?? '') : plural(runs.length, 'run'))

export function NoteDialog({ project, runs, onClose }: Props) {
  const note = useNote(project)
  const [text, setText] = useState('')
  const submit = (event: FormEvent) => {
    event.preventDefault()
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
    <Modal title={`Note on ${named(runs)}`} onClose={onClose}>
      <form onSubmit={submit} className="flex flex-col gap-3">
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
        <Foot error={note.error} pending={note.isPending} act="Add note" onClose={onClose} />
      </form>
    </Modal>
  )
}

export function LabelDialog({ project, runs, onClose }: Props) {
  const label = useLabel(project)
  const [key, setKey] = useState('')
  const [text, setText] = useState('')
  const submit = (event: FormEvent) => {
    event.preventDefault()
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
    <Modal title={`Label ${named(runs)}`} onClose={onClose}>
      <form onSubmit={submit} className="flex flex-col gap-3">
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
        <Foot error={label.error} pending={label.isPending} act="Set label" onClose={onClose} />
      </form>
    </Modal>
  )
}
