/** A project's settings: who is in it, its machines, who sees it, its name and its end; for its maintainers. */
import { useState, type FormEvent } from 'react'
import { Link, useNavigate, useParams } from 'react-router'
import {
  useChangeSettings,
  useDeleteProject,
  useMachineTokens,
  useMakeMachineToken,
  useRevokeMachineToken,
  useSetRole,
  useSettings,
} from '../../api/access'
import type { Schemas } from '../../api/client'
import { DataTable } from '../../parts/DataTable'
import { DialogForm } from '../../parts/DialogForm'
import { Choice, Field, Refusal } from '../../parts/Field'
import { Section } from '../../parts/Marks'
import { Answer, Page, Waiting } from '../../parts/Shell'
import { toast } from '../../parts/Toasts'
import { endOf, TokenSection } from '../../parts/Tokens'
import { moment, plural } from '../../parts/values'
import { Secrets } from './Secrets'

const ROLES = ['viewer', 'contributor', 'approver', 'maintainer'] as const
const ROLE_OPTIONS = ROLES.map((role) => [role, role] as const)

export default function Settings() {
  const { project = '' } = useParams()
  const { data, error } = useSettings(project)
  return (
    <Page crumbs={[{ text: 'settings' }]} at="Experiments" title="Settings">
      {data ? <Found project={project} settings={data} /> : <Waiting error={error} />}
    </Page>
  )
}

function Found({ project, settings }: { project: string; settings: Schemas['ProjectSettings'] }) {
  return (
    <>
      <Answer
        reason={
          settings.earlier_names.length
            ? `Earlier names lead here too: ${settings.earlier_names.join(', ')}.`
            : 'Nobody else knows that a closed project is there.'
        }
        right={
          <Link className="btn" to={`/${project}/journal`}>
            Journal
          </Link>
        }
      >
        <b>{settings.name}</b> is{' '}
        {settings.is_open ? 'open to everybody with an account' : 'closed to all but members'}
        {settings.archived_at ? `, and archived since ${moment(settings.archived_at)}` : ''};{' '}
        {plural(settings.members.length, 'member')}
        {settings.groups.length ? ` and ${plural(settings.groups.length, 'group')}` : ''}.
      </Answer>
      <div className="grid grid-cols-12 content-start gap-x-6 gap-y-5 px-6 pb-6">
        <div className="col-span-8 flex flex-col gap-5">
          <Members project={project} settings={settings} />
          <Machines project={project} />
          <Secrets project={project} />
        </div>
        <div className="col-span-4 flex flex-col gap-5">
          <Sight project={project} settings={settings} />
          <Rename project={project} settings={settings} />
          <End project={project} settings={settings} />
        </div>
      </div>
    </>
  )
}

type Row = { kind: 'person' | 'group'; name: string; shown: string; role: string }

function Members({ project, settings }: { project: string; settings: Schemas['ProjectSettings'] }) {
  const set = useSetRole(project)
  const [name, setName] = useState('')
  const [role, setRole] = useState('contributor')
  const rows: Row[] = [
    ...settings.members.map(({ name, full_name, role }) => ({
      kind: 'person' as const,
      name,
      shown: full_name,
      role,
    })),
    ...settings.groups.map(({ name, role }) => ({
      kind: 'group' as const,
      name,
      shown: 'everybody of the group',
      role,
    })),
  ]
  const add = (event: FormEvent) => {
    event.preventDefault()
    const kind = name.startsWith('group:') ? 'group' : 'person'
    set.mutate({ kind, name: name.replace(/^group:/, ''), role }, { onSuccess: () => setName('') })
  }
  return (
    <Section title="Members" fact="a role permits all that the ones before it do">
      <DataTable
        label="Members"
        rows={rows}
        keyOf={(row) => `${row.kind} ${row.name}`}
        head="lab h-6 border-b border-line2"
        columns={[
          {
            name: 'name',
            heads: true,
            className: 'mono',
            cell: (row) => (row.kind === 'group' ? `group:${row.name}` : row.name),
          },
          { name: 'who', className: 'text-ink2', cell: (row) => row.shown },
          {
            name: 'role',
            cell: (row) => (
              <select
                className="field h-6 py-0 text-xs"
                aria-label={`Role of ${row.name}`}
                value={row.role}
                disabled={set.isPending}
                onChange={(event) => set.mutate({ kind: row.kind, name: row.name, role: event.target.value })}
              >
                {ROLES.map((one) => (
                  <option key={one}>{one}</option>
                ))}
              </select>
            ),
          },
          {
            name: 'act',
            head: null,
            right: true,
            cell: (row) => (
              <button
                className="link text-bad"
                aria-label={`Remove ${row.name}`}
                disabled={set.isPending}
                onClick={() => set.mutate({ kind: row.kind, name: row.name, role: null })}
              >
                Remove
              </button>
            ),
          },
        ]}
      />
      <form className="mt-2 flex items-end gap-2" onSubmit={add}>
        <Field label="Add a person, or group:NAME" value={name} onChange={setName} required />
        <Choice label="as" value={role} onChange={setRole} options={ROLE_OPTIONS} />
        <button className="btn" disabled={set.isPending}>
          Add
        </button>
      </form>
      <Refusal error={set.error} />
    </Section>
  )
}

function Machines({ project }: { project: string }) {
  const { data } = useMachineTokens(project)
  return (
    <TokenSection
      title="Machines"
      label="Tokens of machines"
      tokens={data ?? []}
      make={useMakeMachineToken(project)}
      revoke={useRevokeMachineToken(project)}
      asked={{ title: `A machine of ${project}`, scopes: ['read', 'record'] }}
      told={(made) => ({
        title: `The token of ${made.name}`,
        text: `It is shown this once. What the machine does is said to be of ${made.name}, in this project only. ${endOf(made)}`,
      })}
    />
  )
}

function Sight({ project, settings }: { project: string; settings: Schemas['ProjectSettings'] }) {
  const change = useChangeSettings(project)
  const archived = settings.archived_at !== null
  return (
    <Section title="Who sees it">
      <div className="flex flex-col gap-3 pt-2 text-xs">
        <Choice
          label="Sight"
          value={settings.is_open ? 'open' : 'closed'}
          onChange={(value) => change.mutate({ is_open: value === 'open' })}
          options={[
            ['closed', 'closed: members only'],
            ['open', 'open: everybody with an account reads it'],
          ]}
        />
        <p className="text-ink2">
          {archived
            ? 'Archived: it is read, and nothing is changed in it.'
            : 'In the archive it is read only; nothing is lost.'}
        </p>
        <button
          className="btn self-start"
          disabled={change.isPending}
          onClick={() => change.mutate({ is_archived: !archived })}
        >
          {archived ? 'Take out of the archive' : 'Put into the archive'}
        </button>
        <Refusal error={change.error} />
      </div>
    </Section>
  )
}

function Rename({ project, settings }: { project: string; settings: Schemas['ProjectSettings'] }) {
  const change = useChangeSettings(project)
  const go = useNavigate()
  const [name, setName] = useState(settings.name)
  const submit = (event: FormEvent) => {
    event.preventDefault()
    change.mutate(
      { name },
      {
        onSuccess: (after) => {
          toast(`The project is called ${after.name} now; ${settings.name} goes on leading to it.`)
          void go(`/${after.name}/settings`, { replace: true })
        },
      },
    )
  }
  return (
    <Section title="Name">
      <form className="flex flex-col gap-3 pt-2" onSubmit={submit}>
        <Field label="Name" value={name} onChange={setName} required hint="Old addresses go on working" />
        <Refusal error={change.error} />
        <button className="btn self-start" disabled={change.isPending || name === settings.name}>
          Rename
        </button>
      </form>
    </Section>
  )
}

function End({ project, settings }: { project: string; settings: Schemas['ProjectSettings'] }) {
  const remove = useDeleteProject(project)
  const go = useNavigate()
  const [asking, setAsking] = useState(false)
  const [confirmed, setConfirmed] = useState('')
  return (
    <Section title="Delete">
      <p className="py-2 text-xs text-ink2">
        Nobody sees it any more. An administrator can bring it back, until they remove it for good.
      </p>
      <button className="btn btn-bad" onClick={() => setAsking(true)}>
        Delete the project
      </button>
      {asking && (
        <DialogForm
          title={`Delete ${settings.name}`}
          act="Delete it"
          error={remove.error}
          pending={remove.isPending}
          onClose={() => setAsking(false)}
          onSubmit={() => remove.mutate(confirmed, { onSuccess: () => void go('/projects') })}
        >
          <Field
            label={`Write ${settings.name} to go on`}
            value={confirmed}
            onChange={setConfirmed}
            required
          />
        </DialogForm>
      )}
    </Section>
  )
}
