/** The gates of a model: TOML, as it is kept; a form adds to it. */
import { useState } from 'react'
import { useDraftGates, useGateForms, useSetGates } from '../../api/registry'
import type { Model } from '../../api/client'
import { DialogForm } from '../../parts/DialogForm'
import { Section } from '../../parts/Marks'
import { TextArea } from '../../parts/TextArea'

export function Gates({ model }: { model: Model }) {
  const [writing, setWriting] = useState(false)
  const why = model.why_not['rule']
  return (
    <Section
      title="Gates"
      fact={
        <button
          className="btn leading-[18px]"
          disabled={!!why}
          title={why ?? undefined}
          onClick={() => setWriting(true)}
        >
          Change
        </button>
      }
    >
      {model.gates ? (
        <pre className="mono overflow-auto py-1 text-xs" tabIndex={0} aria-label="Gates">
          {model.gates}
        </pre>
      ) : (
        <p className="lab py-1">No stage asks more than its review.</p>
      )}
      {writing && <ChangeGates model={model} onClose={() => setWriting(false)} />}
    </Section>
  )
}

function ChangeGates({ model, onClose }: { model: Model; onClose: () => void }) {
  const set = useSetGates(model.project, model.name)
  const draft = useDraftGates(model.project, model.name)
  const [gates, setGates] = useState(model.gates)
  return (
    <DialogForm
      title={`Gates of ${model.name}`}
      act="Set gates"
      wide
      error={set.error}
      // What is being added is not in the text yet: setting, or writing on, would lose it.
      pending={set.isPending || draft.isPending}
      onSubmit={() => set.mutate(gates, { onSuccess: onClose })}
      onClose={onClose}
    >
      <OneMore model={model} gates={gates} draft={draft} onDraft={setGates} />
      <TextArea
        label="TOML, a table per stage"
        value={gates}
        onChange={setGates}
        rows={18}
        plain
        disabled={draft.isPending}
      />
    </DialogForm>
  )
}

/** A form for one more gate: its kinds and their fields are what the service lists; the service writes it as TOML. */
function OneMore({
  model,
  gates,
  draft,
  onDraft,
}: {
  model: Model
  gates: string
  draft: ReturnType<typeof useDraftGates>
  onDraft: (gates: string) => void
}) {
  const stages = model.stages.map((stage) => stage.name)
  const { data: forms } = useGateForms()
  const [stage, setStage] = useState(stages.at(-1) ?? '')
  const [kind, setKind] = useState('bound')
  const [typed, setTyped] = useState<Record<string, string>>({})
  const form = forms?.find((one) => one.kind === kind)
  if (!forms || !form) return null
  const valueOf = (name: string, first: string) => typed[`${kind}.${name}`] ?? first
  const type = (name: string, value: string) => setTyped({ ...typed, [`${kind}.${name}`]: value })
  const add = () => {
    const fields = Object.fromEntries(form.fields.map(({ name, first }) => [name, valueOf(name, first)]))
    draft.mutate({ gates, stage, kind, fields }, { onSuccess: (written) => onDraft(written.gates) })
  }
  return (
    <fieldset className="flex flex-wrap items-end gap-2 border border-line px-3 pt-1 pb-3 text-xs text-ink2">
      <legend className="px-1">Add a gate</legend>
      <Choose name="stage" value={stage} options={stages.map((one) => [one, one])} onChange={setStage} />
      <Choose
        name="asks"
        value={kind}
        options={forms.map((one) => [one.kind, one.title])}
        onChange={setKind}
      />
      {form.fields.map(({ name, title, first, options }) =>
        options.length ? (
          <Choose
            key={name}
            name={title}
            value={valueOf(name, first)}
            options={options.map((one) => [one, one])}
            onChange={(value) => type(name, value)}
          />
        ) : (
          <label key={name} className="flex flex-col gap-0.5">
            {title}
            <input
              className="field w-36 py-0 text-xs"
              value={valueOf(name, first)}
              onChange={(event) => type(name, event.target.value)}
            />
          </label>
        ),
      )}
      <button type="button" className="btn" disabled={draft.isPending} onClick={add}>
        Add
      </button>
      {draft.error && (
        <p role="alert" className="w-full text-bad">
          {draft.error.message}
        </p>
      )}
    </fieldset>
  )
}

function Choose(props: {
  name: string
  value: string
  options: [string, string][]
  onChange: (value: string) => void
}) {
  return (
    <label className="flex flex-col gap-0.5">
      {props.name}
      <select
        aria-label={props.name}
        className="field py-0 text-xs"
        value={props.value}
        onChange={(event) => props.onChange(event.target.value)}
      >
        {props.options.map(([value, text]) => (
          <option key={value} value={value}>
            {text}
          </option>
        ))}
      </select>
    </label>
  )
}
