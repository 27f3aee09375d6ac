/** What a model is for, who is asked, how it is reviewed, and who may place what on its stages. */
import { useState } from 'react'
import { useNavigate } from 'react-router'
import {
  useChooseLead,
  useDescribeModel,
  useRenameModel,
  useRuleModel,
  useRulesPreview,
  useSetLadder,
  type NewStage,
} from '../../api/registry'
import type { Model, Schemas } from '../../api/client'
import { ActButtons, type AskedFor } from '../../parts/ActButtons'
import { DialogForm } from '../../parts/DialogForm'
import { labelLines, labelsOf } from '../../parts/labels'
import { Fact, Section } from '../../parts/Marks'
import { TextArea } from '../../parts/TextArea'
import { BinModel } from './BinModel'

type Turned = Schemas['ReviewChange']
type Asked = 'describe' | 'rule' | 'ladder' | 'bin'

export function Rules({ model }: { model: Model }) {
  const [asked, setAsked] = useState<Asked | null>(null)
  const lead = useChooseLead(model.project, model.name)
  const close = () => setAsked(null)
  const labels = Object.entries(model.labels)
  return (
    <Section title="Rules" fact={<ActButtons buttons={BUTTONS} whyNot={model.why_not} onAsk={setAsked} />}>
      <dl className="text-xs">
        <Fact term="purpose">{model.purpose || 'none said'}</Fact>
        <Fact term="ask">{model.person}</Fact>
        <Fact term="review">
          {model.approvals_needed} approval{model.approvals_needed === 1 ? '' : 's'}
          {model.second_pair ? ', by a second person' : ''}
          {model.renewed_approvals ? ', given again after new evidence' : ''}
        </Fact>
        <Fact term="card">
          {model.card_sections.length ? model.card_sections.join(', ') : 'no section required'}
        </Fact>
        {Object.entries(model.evidence_rules).map(([on, rule]) => (
          <Fact key={on} term={`evidence on ${on}`}>
            {[
              rule.people.length && `by ${rule.people.join(' or ')} alone`,
              rule.experiment && `from runs of ${rule.experiment} alone`,
            ]
              .filter(Boolean)
              .join(', ')}
          </Fact>
        ))}
        {labels.length > 0 && (
          <Fact term="labels">{labels.map(([key, text]) => `${key}=${text}`).join(', ')}</Fact>
        )}
        <Fact term="lead">
          <select
            aria-label="Lead version"
            className="field py-0 text-xs"
            disabled={!!model.why_not['lead']}
            title={model.why_not['lead'] ?? undefined}
            value={model.lead_chosen ? String(model.lead) : ''}
            onChange={(event) => lead.mutate(event.target.value ? Number(event.target.value) : null)}
          >
            <option value="">
              the highest occupant{model.lead && !model.lead_chosen ? ` (${model.lead})` : ''}
            </option>
            {model.versions
              .filter((version) => version.review === 'approved' && !version.retired && !version.damaged)
              .map((version) => (
                <option key={version.number} value={version.number}>
                  version {version.number}
                </option>
              ))}
          </select>
          {lead.error && (
            <span role="alert" className="block text-bad">
              {lead.error.message}
            </span>
          )}
        </Fact>
        {[...model.stages].reverse().map((stage) => (
          <Fact key={stage.name} term={stage.name}>
            {stage.asks_approved ? 'an approved version' : 'any version'}, placed by{' '}
            {stage.placers.length ? stage.placers.join(' or ') : `${stage.least_role}s`}
            {stage.why_not && <span className="block text-ink3">{stage.why_not}</span>}
          </Fact>
        ))}
      </dl>
      {asked === 'describe' && <Describe model={model} onClose={close} />}
      {asked === 'rule' && <Rule model={model} onClose={close} />}
      {asked === 'ladder' && <Ladder model={model} onClose={close} />}
      {asked === 'bin' && <BinModel model={model} onClose={close} />}
    </Section>
  )
}

const BUTTONS: AskedFor<Asked>[] = [
  { asked: 'describe', text: 'Describe', act: 'describe' },
  { asked: 'rule', text: 'Review rules', act: 'rule' },
  { asked: 'ladder', text: 'Ladder', act: 'rule' },
  { asked: 'bin', text: 'Bin …', act: 'rule' },
]

type Props = { model: Model; onClose: () => void }

function Line(props: { title: string; value: string; onChange: (value: string) => void }) {
  return (
    <label className="flex flex-col gap-1 text-xs text-ink2">
      {props.title}
      <input
        className="field h-8 text-sm"
        value={props.value}
        onChange={(event) => props.onChange(event.target.value)}
      />
    </label>
  )
}

function Describe({ model, onClose }: Props) {
  const save = useDescribeModel(model.project, model.name)
  const rename = useRenameModel(model.project, model.name)
  const navigate = useNavigate()
  const [called, setCalled] = useState(model.name)
  const [purpose, setPurpose] = useState(model.purpose)
  const [owner, setOwner] = useState(model.person_name)
  const [labels, setLabels] = useState(labelLines(model.labels))
  const [image, setImage] = useState(model.image ?? '')
  const submit = () => {
    const changed = labelsOf(labels, model.labels)
    // The name last: what is saved before it is saved under the name that it has.
    const last = () =>
      called === model.name
        ? onClose()
        : rename.mutate(called, {
            onSuccess: () => {
              onClose()
              void navigate(`/${model.project}/models/${called}`)
            },
          })
    save.mutate(
      { purpose, labels: changed, ...(owner !== model.person_name ? { owner } : {}), ...(image !== (model.image ?? '') ? { image } : {}) },
      { onSuccess: last },
    ) // prettier-ignore
  }
  return (
    <DialogForm
      title={`Describe ${model.name}`}
      act="Save"
      error={save.error ?? rename.error}
      pending={save.isPending || rename.isPending}
      onSubmit={submit}
      onClose={onClose}
    >
      {model.why_not['rule'] === null && (
        <Line
          title="Name; the one that it has goes on leading here"
          value={called}
          onChange={(text) => setCalled(text.trim())}
        />
      )}
      <Line title="Purpose" value={purpose} onChange={setPurpose} />
      <Line title="Person to ask, by name" value={owner} onChange={setOwner} />
      <Line title="Image that is kept, as in plots@2:tree.png" value={image} onChange={setImage} />
      <TextArea label="Labels, one key=value a line" value={labels} onChange={setLabels} rows={3} plain />
    </DialogForm>
  )
}

/** One line for each name of data: `holdout = rex, lea` or `holdout = experiment:nightly`. */
const evidenceLines = (rules: Model['evidence_rules']) =>
  Object.entries(rules)
    .map(
      ([on, { people, experiment }]) =>
        `${on} = ${experiment ? `experiment:${experiment}` : people.join(', ')}`,
    )
    .join('\n')

function evidenceOf(lines: string) {
  const rules: Record<string, { people: string[]; experiment: string | null }> = {}
  for (const line of lines.split('\n')) {
    const at = line.indexOf('=')
    if (at < 1) continue
    const whom = line.slice(at + 1).trim()
    const experiment = /^experiment:(.+)$/.exec(whom)?.[1]?.trim() ?? null
    const people = experiment ? [] : whom.split(',').map((one) => one.trim()).filter(Boolean) // prettier-ignore
    rules[line.slice(0, at).trim()] = { people, experiment }
  }
  return rules
}

function Rule({ model, onClose }: Props) {
  const save = useRuleModel(model.project, model.name)
  const preview = useRulesPreview(model.project, model.name)
  const [approvals, setApprovals] = useState(String(model.approvals_needed))
  const [second, setSecond] = useState(model.second_pair)
  const [renewed, setRenewed] = useState(model.renewed_approvals)
  const [sections, setSections] = useState(model.card_sections.join(', '))
  const [evidence, setEvidence] = useState(evidenceLines(model.evidence_rules))
  const [turned, setTurned] = useState<Turned[]>([])
  // What would turn was told for what stood there then: a change asks anew.
  const changed =
    <T,>(set: (value: T) => void) =>
    (value: T) => {
      setTurned([])
      set(value)
    }
  const rules = {
    approvals_needed: Number(approvals), second_pair: second, renewed_approvals: renewed, evidence: evidenceOf(evidence),
    card_sections: sections.split(',').map((one) => one.trim()).filter(Boolean),
  } // prettier-ignore
  const submit = async () => {
    if (turned.length > 0) return save.mutate({ ...rules, confirmed: true }, { onSuccess: onClose })
    const told = await preview.mutateAsync(rules).catch(() => null)
    const lost = told?.filter((one) => one.before === 'approved') ?? []
    if (lost.length > 0) setTurned(lost)
    else if (told) save.mutate(rules, { onSuccess: onClose })
  }
  return (
    <DialogForm
      title={`How ${model.name} is reviewed`}
      act={turned.length > 0 ? 'Save all the same' : 'Save'}
      error={save.error ?? preview.error}
      pending={save.isPending || preview.isPending}
      onSubmit={() => void submit()}
      onClose={onClose}
    >
      <Line title="Approvals needed" value={approvals} onChange={changed(setApprovals)} />
      <Tick checked={second} onChange={changed(setSecond)}>
        Who registered a version may not approve it
      </Tick>
      <Tick checked={renewed} onChange={changed(setRenewed)}>
        Approvals older than the newest evidence have to be given again
      </Tick>
      <Line title="Sections that the card requires" value={sections} onChange={setSections} />
      <TextArea
        label="Who alone adds evidence: DATA = PERSON, PERSON or DATA = experiment:NAME, one a line"
        value={evidence}
        onChange={setEvidence}
        rows={2}
        plain
      />
      {turned.length > 0 && (
        <div role="alert" className="text-xs text-bad">
          <b className="strong">No longer approved, and not to be placed until approved again:</b>
          <ul>
            {turned.map((one) => (
              <li key={one.number}>
                version {one.number}
                {one.stages.length > 0 && `, which stays on ${one.stages.join(' and ')}`}
              </li>
            ))}
          </ul>
        </div>
      )}
    </DialogForm>
  )
}

function Tick(props: { checked: boolean; onChange: (checked: boolean) => void; children: string }) {
  return (
    <label className="flex items-center gap-2 text-xs text-ink2">
      <input
        type="checkbox"
        checked={props.checked}
        onChange={(event) => props.onChange(event.target.checked)}
      />
      {props.children}
    </label>
  )
}

function Ladder({ model, onClose }: Props) {
  const save = useSetLadder(model.project, model.name)
  const [stages, setStages] = useState<NewStage[]>(
    model.stages.map(({ name, asks_approved, least_role, placers }) => ({
      name, asks_approved, placers, least_role: least_role as NewStage['least_role'],
    })),
  ) // prettier-ignore
  const change = (at: number, part: Partial<NewStage>) =>
    setStages(stages.map((stage, place) => (place === at ? { ...stage, ...part } : stage)))
  return (
    <DialogForm
      title={`Ladder of ${model.name}, from the lowest stage`}
      act="Save"
      wide
      error={save.error}
      pending={save.isPending}
      onSubmit={() => save.mutate(stages, { onSuccess: onClose })}
      onClose={onClose}
    >
      <table className="text-xs" aria-label="Stages">
        <thead>
          <tr className="lab">
            <th scope="col">stage</th>
            <th scope="col">asks for an approved version</th>
            <th scope="col">who may place</th>
            <th scope="col">or these people alone, by name</th>
            <td />
          </tr>
        </thead>
        <tbody>
          {stages.map((stage, at) => (
            <tr key={at}>
              <td>
                <input
                  aria-label={`Name of stage ${at + 1}`}
                  className="field"
                  value={stage.name}
                  onChange={(event) => change(at, { name: event.target.value })}
                />
              </td>
              <td>
                <input
                  type="checkbox"
                  aria-label={`${stage.name} asks for an approved version`}
                  checked={stage.asks_approved}
                  onChange={(event) => change(at, { asks_approved: event.target.checked })}
                />
              </td>
              <td>
                <select
                  aria-label={`Who may place on ${stage.name}`}
                  className="field"
                  value={stage.least_role}
                  onChange={(event) =>
                    change(at, { least_role: event.target.value as NewStage['least_role'] })
                  }
                >
                  <option value="contributor">contributors</option>
                  <option value="approver">approvers</option>
                  <option value="maintainer">maintainers</option>
                </select>
              </td>
              <td>
                <input
                  aria-label={`People who may place on ${stage.name}`}
                  className="field w-64"
                  value={stage.placers.join(', ')}
                  onChange={(event) =>
                    change(at, {
                      placers: event.target.value
                        .split(',')
                        .map((one) => one.trim())
                        .filter(Boolean),
                    })
                  }
                />
              </td>
              <td>
                <button
                  type="button"
                  className="btn"
                  aria-label={`Remove ${stage.name}`}
                  onClick={() => setStages(stages.filter((_, place) => place !== at))}
                >
                  Remove
                </button>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <div>
        <button
          type="button"
          className="btn"
          onClick={() =>
            setStages([...stages, { name: '', asks_approved: true, least_role: 'contributor', placers: [] }])
          }
        >
          Add a stage above
        </button>
      </div>
    </DialogForm>
  )
}
