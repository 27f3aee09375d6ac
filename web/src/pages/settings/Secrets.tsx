/** What the service uses in a project's name: set here, and shown to nobody again. */
import { useState } from 'react'
import { useRemoveSecret, useSecrets, useSetSecret } from '../../api/access'
import { DataTable } from '../../parts/DataTable'
import { DialogForm } from '../../parts/DialogForm'
import { Field, Refusal } from '../../parts/Field'
import { Section } from '../../parts/Marks'
import { toast } from '../../parts/Toasts'
import { moment } from '../../parts/values'

export function Secrets({ project }: { project: string }) {
  const { data = [] } = useSecrets(project)
  const remove = useRemoveSecret(project)
  // The name that another value is given to; empty for a new secret.
  const [setting, setSetting] = useState<string | null>(null)
  return (
    <Section
      title="Secrets"
      fact={
        <button className="link" onClick={() => setSetting('')}>
          New secret
        </button>
      }
    >
      {data.length === 0 ? (
        <p className="lab py-2">None yet.</p>
      ) : (
        <DataTable
          label="Secrets"
          rows={data}
          keyOf={(row) => row.name}
          head="lab h-6 border-b border-line2"
          columns={[
            { name: 'name', heads: true, className: 'mono', cell: (row) => row.name },
            { name: 'set', className: 'text-ink2', cell: (row) => `${moment(row.set_at)} by ${row.set_by}` },
            {
              name: 'act',
              head: null,
              right: true,
              cell: (row) => (
                <span className="flex justify-end gap-3">
                  <button
                    className="link"
                    aria-label={`Change ${row.name}`}
                    onClick={() => setSetting(row.name)}
                  >
                    Change
                  </button>
                  <button
                    className="link text-bad"
                    aria-label={`Remove ${row.name}`}
                    disabled={remove.isPending}
                    onClick={() =>
                      remove.mutate(row.name, { onSuccess: () => toast(`${row.name} is removed.`) })
                    }
                  >
                    Remove
                  </button>
                </span>
              ),
            },
          ]}
        />
      )}
      <Refusal error={remove.error} />
      {setting !== null && <SecretForm project={project} known={setting} onClose={() => setSetting(null)} />}
    </Section>
  )
}

function SecretForm(props: { project: string; known: string; onClose: () => void }) {
  const { project, known, onClose } = props
  const set = useSetSecret(project)
  const [name, setName] = useState(known)
  const [value, setValue] = useState('')
  return (
    <DialogForm
      title={known ? `Another value for ${known}` : 'A secret of the project'}
      act="Set it"
      error={set.error}
      pending={set.isPending}
      onClose={onClose}
      onSubmit={() =>
        set.mutate(
          { name, value },
          {
            onSuccess: () => {
              onClose()
              toast(`${name} is set.`)
            },
          },
        )
      }
    >
      {!known && <Field label="Name" value={name} onChange={setName} required hint="By which it is used" />}
      <Field
        label="Value"
        type="password"
        autoComplete="new-password"
        value={value}
        onChange={setValue}
        required
        hint="It is sealed and shown to nobody again."
      />
    </DialogForm>
  )
}
