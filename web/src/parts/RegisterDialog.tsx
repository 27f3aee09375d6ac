/** Register what a run generated, or a version of an artifact, as the next version of a model. */
import { useState } from 'react'
import { useNavigate } from 'react-router'
import { useRegister } from '../api/acts'
import type { ModelVersion } from '../api/client'
import { useVersionsOf } from '../api/data'
import { useModels } from '../api/registry'
import { DialogForm } from './DialogForm'
import { TextArea } from './TextArea'
import { show } from './values'

type Props = {
  project: string
  /** What is registered: names of what a run generated, or the reference of an artifact's version. */
  from: { run: string; names: string[] } | { artifact: string; made: boolean }
  model: string
  onClose: () => void
}

/** The checkpoints under a name that a run made, in the order of their steps. */
function useCheckpoints(project: string, artifact: string, run: string) {
  const { data } = useVersionsOf(project, artifact, artifact !== '')
  return (data?.checkpoints ?? []).filter((one) => one.run === run).sort((a, b) => a.step - b.step)
}

export function RegisterDialog({ project, from, model: first, onClose }: Props) {
  const models = useModels(project)
  const register = useRegister(project)
  const navigate = useNavigate()
  const names = 'run' in from ? [...new Set(from.names)] : [from.artifact]
  const [artifact, setArtifact] = useState(names[0] ?? '')
  const made = useCheckpoints(project, 'run' in from ? artifact : '', 'run' in from ? from.run : '')
  const [step, setStep] = useState('')
  const [model, setModel] = useState(first)
  const [origin, setOrigin] = useState('')
  const [comment, setComment] = useState('')
  const told = 'run' in from || from.made
  const submit = () =>
    register.mutate(
      {
        model,
        body: { artifact, comment, ...('run' in from ? { run: from.run } : {}), ...(step ? { step: Number(step) } : {}), ...(told ? {} : { origin }) }, // prettier-ignore
      },
      {
        onSuccess: (made) =>
          navigate(`/${project}/models/${(made as ModelVersion).reference.replace('@', '/')}`),
      },
    )
  return (
    <DialogForm
      title={`Register a version from ${'run' in from ? `run ${from.run.split('/')[1]}` : from.artifact}`}
      act="Register"
      error={register.error}
      pending={register.isPending}
      onSubmit={submit}
      onClose={onClose}
    >
      {'run' in from && (
        <label className="flex flex-col gap-1 text-xs text-ink2">
          Files it generated
          <select
            className="field h-8 text-sm"
            value={artifact}
            onChange={(event) => {
              setStep('')
              setArtifact(event.target.value)
            }}
          >
            {names.map((name) => (
              <option key={name}>{name}</option>
            ))}
          </select>
        </label>
      )}
      {made.length > 1 && (
        <label className="flex flex-col gap-1 text-xs text-ink2">
          Checkpoint, one of {made.length}
          <select
            className="field h-8 text-sm"
            required
            value={step}
            onChange={(event) => setStep(event.target.value)}
          >
            <option value="">choose one</option>
            {made.map((one) => (
              <option key={one.number} value={one.step}>
                step {one.step}
                {Object.entries(one.values)
                  .slice(0, 3)
                  .map(([key, value]) => `, ${key} ${show(value)}`)}
              </option>
            ))}
          </select>
        </label>
      )}
      <label className="flex flex-col gap-1 text-xs text-ink2">
        Model
        <input
          className="field h-8 text-sm"
          list="models"
          required
          value={model}
          onChange={(event) => setModel(event.target.value)}
        />
        <datalist id="models">
          {models.data?.models.map((known) => (
            <option key={known.name}>{known.name}</option>
          ))}
        </datalist>
      </label>
      {!told && (
        <label className="flex flex-col gap-1 text-xs text-ink2">
          No run made it: where it came from, in words
          <input
            className="field h-8 text-sm"
            required
            maxLength={2000}
            value={origin}
            onChange={(event) => setOrigin(event.target.value)}
          />
        </label>
      )}
      <TextArea label="Comment" value={comment} onChange={setComment} rows={3} limit={4000} />
    </DialogForm>
  )
}
