/** Dialogs that say something of one run or many: a note, a label. */
import { useState, type ReactNode } from 'react'
import { useLabel, useNote } from '../api/acts'
import { useDescribe, useRenameExperiment, useSetSeeds } from '../api/finding'
import { DialogForm } from './DialogForm'
import { labelLines, labelsOf } from './labels'
import { toast } from './Toasts'
import { plural } from './values'
import { TextArea } from './TextArea'

type Props = { project: string; runs: string[]; onClose: () => void }

export const named = (runs: string[]) => (runs.length === 1 ? (runs[0] ?? '') : plural(runs.length, 'run'))

export function NoteDialog({
  project,
  things,
  onClose,
}: {
  project: string
  things: string[]
  onClose: () => void
}) {
  const note = useNote(project)
  const [text, setText] = useState('')
  const submit = () => {
    note.mutate(
      { things, text },
      {
        onSuccess: () => {
          toast(`Noted on ${named(things)}.`)
          onClose()
        },
      },
    )
  }
  return (
    <DialogForm
      title={`Note on ${named(things)}`}
      act="Add note"
      error={note.error}
      pending={note.isPending}
      onSubmit={submit}
      onClose={onClose}
    >
      <TextArea label="Text, in Markdown" value={text} onChange={setText} rows={6} limit={50_000} required />
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

type Said = { description: string; labels: Record<string, string> }
type Saving = {
  error: Error | null
  isPending: boolean
  mutate: (
    body: { description: string; labels: Record<string, string | null> },
    then: { onSuccess: () => void },
  ) => void
}

/** Say what a project or an experiment is about: its description and labels. */
export function DescribeDialog(
  props: Said & {
    project: string
    experiment: string | null
    seeds?: string[]
    generatesNames?: boolean
    onClose: () => void
  },
) {
  const { project, experiment } = props
  const save = useDescribe(project, experiment)
  const name = useSetSeeds(project, experiment ?? '')
  const rename = useRenameExperiment(project, experiment ?? '')
  const [called, setCalled] = useState(experiment ?? '')
  const [generates, setGenerates] = useState(props.generatesNames ?? true)
  const before = (props.seeds ?? []).join(', ')
  const [seeds, setSeeds] = useState(before)
  const listed = seeds.split(',').map((one) => one.trim()).filter(Boolean) // prettier-ignore
  const both: Saving = {
    error: save.error ?? name.error ?? rename.error,
    isPending: save.isPending || name.isPending || rename.isPending,
    mutate: (body, then) => {
      // The name last: what is saved before it is saved under the name that it has.
      const last = () => (called === (experiment ?? '') ? then.onSuccess() : rename.mutate(called, then))
      const say = () =>
        save.mutate(experiment === null ? body : { ...body, generates_names: generates }, { onSuccess: last })
      if (listed.join(', ') === before) say()
      else name.mutate(listed, { onSuccess: say })
    },
  }
  return (
    <DescriptionForm {...props} name={experiment ?? project} save={both}>
      {experiment !== null && (
        <label className="flex flex-col gap-1 text-xs text-ink2">
          Name; the one that it has goes on leading here
          <input
            className="field mono h-8"
            value={called}
            spellCheck={false}
            onChange={(event) => setCalled(event.target.value.trim())}
          />
        </label>
      )}
      {experiment !== null && (
        <label className="flex items-center gap-2 text-xs text-ink2">
          <input
            type="checkbox"
            checked={generates}
            onChange={(event) => setGenerates(event.target.checked)}
          />
          Runs that are begun without a name get a generated one
        </label>
      )}
      {props.seeds && (
        <label className="flex flex-col gap-1 text-xs text-ink2">
          Seeds: parameters in which replicates differ
          <input
            className="field mono h-8"
            value={seeds}
            spellCheck={false}
            onChange={(event) => setSeeds(event.target.value)}
          />
        </label>
      )}
    </DescriptionForm>
  )
}

/** The form of a description and labels, whatever they are of. */
export function DescriptionForm(
  props: Said & { name: string; save: Saving; onClose: () => void; children?: ReactNode },
) {
  const { name, save, onClose } = props
  const [description, setDescription] = useState(props.description)
  const [labels, setLabels] = useState(labelLines(props.labels))
  const submit = () =>
    save.mutate(
      { description, labels: labelsOf(labels, props.labels) },
      {
        onSuccess: () => {
          toast(`${name} is described.`)
          onClose()
        },
      },
    )
  return (
    <DialogForm
      title={`Describe ${name}`}
      act="Save"
      error={save.error}
      pending={save.isPending}
      onSubmit={submit}
      onClose={onClose}
    >
      <TextArea label="What it is" value={description} onChange={setDescription} rows={4} limit={4_000} />
      <TextArea label="Labels, a line each: key=text" value={labels} onChange={setLabels} rows={3} plain />
      {props.children}
    </DialogForm>
  )
}
