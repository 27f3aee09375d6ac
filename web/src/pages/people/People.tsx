/** Everybody with an account: invited, changed, deactivated; for administrators. */
import { useState } from 'react'
import { useChangePerson, useInvite, useMakeLink, usePeople, type Person } from '../../api/access'
import { DataTable } from '../../parts/DataTable'
import { DialogForm } from '../../parts/DialogForm'
import { Field, Refusal } from '../../parts/Field'
import { InstancePage } from '../../parts/InstancePage'
import { useAddress } from '../../parts/selection'
import { Answer, Waiting } from '../../parts/Shell'
import { toast } from '../../parts/Toasts'
import { SecretDialog } from '../../parts/Tokens'
import { moment, plural } from '../../parts/values'

type Link = { title: string; link: string; until: string; sent_to: string | null; not_sent: string }

export default function People() {
  const { data, error } = usePeople()
  const { params, change } = useAddress()
  const [inviting, setInviting] = useState(false)
  const [editing, setEditing] = useState<Person | null>(null)
  const [link, setLink] = useState<Link | null>(null)
  if (!data) {
    return (
      <InstancePage title="People">
        <Waiting error={error} />
      </InstancePage>
    )
  }
  const find = (params.get('find') ?? '').toLowerCase()
  const shown = data.filter((one) =>
    `${one.name} ${one.full_name} ${one.groups.join(' ')} ${Object.keys(one.roles).join(' ')}`
      .toLowerCase()
      .includes(find),
  )
  const active = data.filter((one) => !one.deactivated_at)
  const waiting = active.filter((one) => one.invited_until)
  return (
    <InstancePage title="People">
      <Answer
        reason={
          waiting.length
            ? `${waiting.map((one) => one.full_name).join(', ')} ${waiting.length === 1 ? 'was' : 'were'} invited and ${waiting.length === 1 ? 'has' : 'have'} not come yet.`
            : 'No invitation is open.'
        }
        right={
          <button className="btn btn-p" onClick={() => setInviting(true)}>
            Invite somebody
          </button>
        }
      >
        <b>{plural(active.length, 'person', 'people')}</b> can sign in
        {data.length > active.length ? `, ${data.length - active.length} deactivated` : ''}.
      </Answer>
      <div className="mx-6 mb-2">
        <input
          aria-label="Find people"
          className="field h-7 w-64"
          placeholder="find a name, project or group"
          value={params.get('find') ?? ''}
          spellCheck={false}
          onChange={(event) => change('find', event.target.value || null)}
        />
      </div>
      <DataTable
        label="People"
        className="mx-6 w-[calc(100%-48px)] text-xs"
        rows={shown}
        keyOf={(row) => row.name}
        head="lab h-6 border-b border-line2"
        line={(row) => `h-8 border-b border-line ${row.deactivated_at ? 'text-ink3' : ''}`}
        columns={[
          { name: 'name', heads: true, className: 'mono', cell: (row) => row.name },
          { name: 'full name', cell: (row) => row.full_name },
          { name: 'state', head: null, className: 'text-ink2', cell: (row) => stateOf(row) },
          {
            name: 'roles',
            className: 'max-w-[300px] truncate text-ink2',
            title: (row) => rolesOf(row),
            cell: (row) => rolesOf(row),
          },
          { name: 'groups', className: 'text-ink2', cell: (row) => row.groups.join(', ') },
          {
            name: 'last seen',
            className: 'whitespace-nowrap text-ink2',
            cell: (row) => moment(row.seen_at) || 'never',
          },
          { name: 'tokens', right: true, className: 'text-ink2', cell: (row) => row.tokens },
          {
            name: 'act',
            head: null,
            right: true,
            cell: (row) => (
              <button className="link" aria-label={`Change ${row.name}`} onClick={() => setEditing(row)}>
                Change
              </button>
            ),
          },
        ]}
      />
      {inviting && <Invite onClose={() => setInviting(false)} onLink={setLink} />}
      {editing && <Change person={editing} onClose={() => setEditing(null)} onLink={setLink} />}
      {link && (
        <SecretDialog
          title={link.title}
          text={`${wayOf(link)} It opens once, until ${moment(link.until)}.`}
          secret={link.link}
          onClose={() => setLink(null)}
        />
      )}
    </InstancePage>
  )
}

const wayOf = ({ sent_to, not_sent }: Link) =>
  sent_to
    ? `This address was sent to ${sent_to}.`
    : `${not_sent ? `${not_sent} ` : ''}Give this address to the person.`

const rolesOf = (row: Person) =>
  Object.entries(row.roles)
    .map(([project, role]) => `${project} ${role}`)
    .join(', ')

function stateOf(row: Person) {
  if (row.deactivated_at) return `deactivated ${moment(row.deactivated_at)}`
  if (row.invited_until) return <span className="text-accent">invited until {moment(row.invited_until)}</span>
  return [row.is_admin && 'administrator', row.signs_in_elsewhere && 'signs in elsewhere']
    .filter(Boolean)
    .join(', ')
}

function Invite({ onClose, onLink }: { onClose: () => void; onLink: (link: Link) => void }) {
  const invite = useInvite()
  const [name, setName] = useState('')
  const [fullName, setFullName] = useState('')
  const [mail, setMail] = useState('')
  const [admin, setAdmin] = useState(false)
  return (
    <DialogForm
      title="Invite somebody"
      act="Make the invitation"
      error={invite.error}
      pending={invite.isPending}
      onClose={onClose}
      onSubmit={() =>
        invite.mutate(
          { name, full_name: fullName, mail, is_admin: admin, password: null },
          {
            onSuccess: (made) => {
              onClose()
              if (made.link && made.invited_until) {
                onLink({
                  ...made,
                  title: `${made.full_name} is invited`,
                  link: made.link,
                  until: made.invited_until,
                })
              }
            },
          },
        )
      }
    >
      <Field label="Full name" value={fullName} onChange={setFullName} required />
      <Field
        label="Name to sign in with"
        value={name}
        onChange={setName}
        required
        hint="Lowercase letters, digits"
      />
      <Field label="Mail address" type="email" value={mail} onChange={setMail} />
      <label className="flex items-baseline gap-2 text-xs text-ink2">
        <input type="checkbox" checked={admin} onChange={() => setAdmin(!admin)} />
        Administrator of the whole instance
      </label>
    </DialogForm>
  )
}

function Change(props: { person: Person; onClose: () => void; onLink: (link: Link) => void }) {
  const { person, onClose, onLink } = props
  const change = useChangePerson()
  const makeLink = useMakeLink()
  const [fullName, setFullName] = useState(person.full_name)
  const [mail, setMail] = useState(person.mail)
  const [groups, setGroups] = useState(person.groups.join(', '))
  const [admin, setAdmin] = useState(person.is_admin)
  const active = !person.deactivated_at
  const done = (text: string) => {
    onClose()
    toast(text)
  }
  return (
    <DialogForm
      title={person.full_name}
      act="Save"
      error={change.error}
      pending={change.isPending}
      onClose={onClose}
      onSubmit={() =>
        change.mutate(
          {
            person: person.name,
            full_name: fullName,
            mail,
            is_admin: admin,
            groups: groups
              .split(',')
              .map((one) => one.trim())
              .filter(Boolean),
          },
          { onSuccess: () => done(`${fullName} is changed.`) },
        )
      }
    >
      <Field label="Full name" value={fullName} onChange={setFullName} required />
      <Field label="Mail address" type="email" value={mail} onChange={setMail} />
      <Field label="Groups, between commas" value={groups} onChange={setGroups} />
      <label className="flex items-baseline gap-2 text-xs text-ink2">
        <input type="checkbox" checked={admin} onChange={() => setAdmin(!admin)} />
        Administrator of the whole instance
      </label>
      <Refusal error={makeLink.error} />
      <div className="flex gap-3 border-t border-line pt-3">
        {active && (
          <button
            type="button"
            className="btn"
            disabled={makeLink.isPending}
            onClick={() =>
              makeLink.mutate(person.name, {
                onSuccess: (made) => {
                  onClose()
                  onLink({
                    ...made,
                    title: `A password for ${person.full_name}`,
                    until: made.expires_at,
                  })
                },
              })
            }
          >
            Link for a new password
          </button>
        )}
        <button
          type="button"
          className={active ? 'btn btn-bad' : 'btn'}
          disabled={change.isPending}
          onClick={() =>
            change.mutate(
              { person: person.name, is_active: !active },
              {
                onSuccess: () =>
                  done(
                    active
                      ? `${person.full_name} is out, on every machine.`
                      : `${person.full_name} can sign in again.`,
                  ),
              },
            )
          }
        >
          {active ? 'Deactivate' : 'Let in again'}
        </button>
      </div>
    </DialogForm>
  )
}
