/** Register what a run generated as the next version of a model. */
import { useState, type FormEvent } from 'react'
import { useNavigate } from 'react-router'
import { useRegister } from '../../api/acts'
import type { ModelVersion, RunDetail } from '../../api/client'
import { useModels } from '../../api/registry'
import { Modal } from '../../parts/Modal'

export function RegisterDialog({ run, onClose }: { run: RunDetail; onClose: () => void }) {
  const models = useModels(run.project)
  const register = useRegister(run.project)
  const navigate = useNavigate()
  const names = [...new Set(run.generated.map((link) => link.name))]
  const [artifact, setArtifact] = useState(names[0] ?? '')
  const [model, setModel] = useState(run.experiment)
  const [comment, setComment] = useState('')
  const submit = (event: FormEvent) => {
    event.preventDefault()
    register.mutate(
      { model, body: { artifact, run: run.reference, comment } },
      {
        onSuccess: (made) =>
          navigate(`/${run.project}/models/${(made as ModelVersion).reference.replace('@', '/')}`),
      },
    )
  }
  return (
    <Modal title={`Register a version from run ${run.number}`} onClose={onClose}>
      <form onSubmit={submit} className="flex flex-col gap-3">
        <label className="flex flex-col gap-1 text-xs text-ink2">
          Files it generated
          <select
            className="field h-8 text-sm"
            value={artifact}
            onChange={(event) => setArtifact(event.target.value)}
          >
            {names.map((name) => (
              <option key={name}>{name}</option>
            ))}
          </select>
        </label>
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
        <label className="flex flex-col gap-1 text-xs text-ink2">
          Comment
          <textarea
            className="field text-sm"
            rows={3}
            maxLength={4000}
            value={comment}
            onChange={(event) => setComment(event.target.value)}
          />
        </label>
        {register.error && (
          <p role="alert" className="text-xs text-bad">
            {register.error.message}
          </p>
        )}
        <div className="flex justify-end gap-2">
          <button type="button" className="btn" onClick={onClose}>
            Cancel
          </button>
          <button className="btn btn-p" disabled={register.isPending}>
            Register
          </button>
        </div>
      </form>
    </Modal>
  )
}
