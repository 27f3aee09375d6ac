/** The gates of a model: TOML, as it is kept; a form writes more of it. */
import { useState } from 'react'
import { useSetGates } from '../../api/registry'
import type { Model } from '../../api/client'
import { DialogForm } from '../../parts/DialogForm'
import { Section } from '../../parts/Marks'
import { withGate, type Asked } from './gateText'
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
  const [gates, setGates] = useState(model.gates)
  return (
    <DialogForm
      title={`Gates of ${model.name}`}
      act="Set gates"
      wide
      error={set.error}
      pending={set.isPending}
      onSubmit={() => set.mutate(gates, { onSuccess: onClose })}
      onClose={onClose}
    >
      <OneMore
        stages={model.stages.map((stage) => stage.name)}
        onAdd={(stage, asked) => setGates(withGate(gates, stage, asked))}
      />
      <TextArea label="TOML, a table per stage" value={gates} onChange={setGates} rows={18} plain />
    </DialogForm>
  )
}

const KINDS = {
  bound: 'a bound on a value',
  better: 'better than the occupant',
  evidence: 'evidence, and its age',
  approvals: 'approvals',
  card: 'card sections',
  signature: 'signature',
  recorded: 'data and code recorded',
} as const

type Kind = keyof typeof KINDS
const RECORDED = ['data', 'code', 'committed']

const PRINT: [string, string, string] = ['fingerprint', 'data fingerprint: recorded or any', 'recorded']

/** Which fields a kind of gate has, and what stands in them at first. */
const FIELDS: Record<Kind, [name: string, title: string, first: string][]> = {
  bound: [['value', 'value', 'recall'], ['on', 'on data (none: its run)', ''], ['at_least', 'at least', ''], ['at_most', 'at most', ''], PRINT],
  better: [['value', 'value', 'recall'], ['on', 'on data', ''], ['by', 'by more than', '0'], ['confidence', 'confidence', '0.95'], PRINT],
  evidence: [['on', 'on data', ''], ['within', 'not older than', '30d'], PRINT],
  approvals: [['count', 'how many', '2']],
  card: [['sections', 'sections', 'Purpose, Limits']],
  signature: [['asks', 'present or compatible', 'compatible']],
  recorded: [['what', 'data, code, committed', 'data, code']],
} // prettier-ignore

function OneMore({ stages, onAdd }: { stages: string[]; onAdd: (stage: string, asked: Asked) => void }) {
  const [stage, setStage] = useState(stages.at(-1) ?? '')
  const [kind, setKind] = useState<Kind>('bound')
  const [given, setGiven] = useState<Record<string, string>>({})
  const valueOf = (name: string, first: string) => given[`${kind}.${name}`] ?? first
  const add = () => {
    const held = Object.fromEntries(FIELDS[kind].map(([name, , first]) => [name, valueOf(name, first)]))
    const what = (held['what'] ?? '').split(',').map((one) => one.trim()).filter((one) => RECORDED.includes(one)) // prettier-ignore
    onAdd(stage, { kind, ...held, ...(kind === 'recorded' ? { what } : {}) } as Asked)
  }
  return (
    <fieldset className="flex flex-wrap items-end gap-2 border border-line px-3 pt-1 pb-3 text-xs text-ink2">
      <legend className="px-1">Add a gate</legend>
      <Choose name="stage" value={stage} options={stages.map((one) => [one, one])} onChange={setStage} />
      <Choose
        name="asks"
        value={kind}
        options={Object.entries(KINDS)}
        onChange={(value) => setKind(value as Kind)}
      />
      {FIELDS[kind].map(([name, title, first]) => (
        <label key={name} className="flex flex-col gap-0.5">
          {title}
          <input
            className="field w-36 py-0 text-xs"
            value={valueOf(name, first)}
            onChange={(event) => setGiven({ ...given, [`${kind}.${name}`]: event.target.value })}
          />
        </label>
      ))}
      <button type="button" className="btn" onClick={add}>
        Add
      </button>
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
