/** Keep chosen files as a version: its name, its kind, and how far the sending is. */
import { useEffect, useRef, useState } from 'react'
import { useNavigate } from 'react-router'
import { useKeepFiles, type Chosen } from '../../api/data'
import { DialogForm } from '../../parts/DialogForm'
import { bytes, plural } from '../../parts/values'

const KINDS = ['data', 'model', 'image', 'table', 'text', 'file']

export function KeepDialog({
  project,
  files,
  names,
  onClose,
}: {
  project: string
  files: Chosen[]
  names: string[]
  onClose: () => void
}) {
  const go = useNavigate()
  const keep = useKeepFiles(project)
  const total = files.reduce((sum, { file }) => sum + file.size, 0)
  const first = (files[0]?.path.split('/')[0] ?? '').split('.')[0] ?? ''
  const [name, setName] = useState(
    first
      .toLowerCase()
      .replace(/[^a-z0-9._-]+/g, '-')
      .replace(/^[^a-z]+/, ''),
  )
  const [kind, setKind] = useState('data')
  const [how, setHow] = useState({ read: 0, there: 0 })
  const giveUp = useRef<AbortController>(null)
  // Whoever closes the dialog, or leaves the page, wants no version made behind their back.
  useEffect(() => () => giveUp.current?.abort(), [])
  const submit = () =>
    keep.mutate(
      { name, kind, files, tell: setHow, signal: (giveUp.current = new AbortController()).signal },
      { onSuccess: (version) => void go(`/${project}/data/${version.name}?version=${version.number}`) },
    )
  return (
    <DialogForm
      title={`Keep ${plural(files.length, 'file')}`}
      act={keep.isPending ? 'Sending …' : 'Keep'}
      error={keep.error}
      pending={keep.isPending || !name}
      onSubmit={submit}
      onClose={onClose}
    >
      <label className="flex flex-col gap-1 text-xs">
        Name of the artifact
        <input
          className="field"
          list="artifact-names"
          value={name}
          spellCheck={false}
          onChange={(event) => setName(event.target.value)}
        />
        <datalist id="artifact-names">
          {names.map((known) => (
            <option key={known} value={known} />
          ))}
        </datalist>
      </label>
      <label className="flex flex-col gap-1 text-xs">
        Kind
        <select className="field" value={kind} onChange={(event) => setKind(event.target.value)}>
          {KINDS.map((word) => (
            <option key={word}>{word}</option>
          ))}
        </select>
      </label>
      <p className="text-xs text-ink2">
        {names.includes(name)
          ? `It becomes the next version of ${name}, unless the newest one has the same content.`
          : 'It becomes version 1.'}
      </p>
      {keep.isPending && (
        <p className="text-xs" role="status">
          <progress
            className="progress mr-2 h-2 w-40 align-middle"
            max={2 * total || 1}
            value={how.read + how.there}
            aria-label="Sent"
          />
          {how.read < total
            ? `${bytes(how.read)} of ${bytes(total)} read`
            : `${bytes(how.there)} of ${bytes(total)} at the service`}
        </p>
      )}
    </DialogForm>
  )
}
