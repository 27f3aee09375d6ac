/** Tokens: a table of them, the dialog that makes one, and its secret, shown once. */
import { useState } from 'react'
import type { Token } from '../api/access'
import type { Schemas } from '../api/client'
import { DataTable } from './DataTable'
import { DialogForm } from './DialogForm'
import { Choice, Field, Refusal } from './Field'
import { Section } from './Marks'
import { Modal } from './Modal'
import { toast } from './Toasts'
import { moment } from './values'

const SCOPES = [
  ['read', 'see and download'],
  ['record', 'record runs, files and notes'],
  ['register', 'register versions, add evidence'],
  ['review', 'approve and reject'],
  ['place', 'place versions on stages'],
  ['report', 'report what runs where'],
  ['administer', 'settings, members, tokens'],
] as const

type Wanted = { name: string; scopes: string[]; days: number | null }
/** Of a mutation, what this section takes: mutations of wider bodies fit too. */
type Act<Given, Made> = {
  isPending: boolean
  error: Error | null
  mutate: (given: Given, options: { onSuccess: (made: Made) => void }) => void
}
type Said = { title: string; text: string }

/** A section with somebody's tokens: each revoked here, a new one asked for, and its secret shown once. */
export function TokenSection(props: {
  title: string
  label: string
  tokens: Token[]
  make: Act<Wanted, Schemas['MadeToken']>
  revoke: Act<string, unknown>
  asked: { title: string; scopes: readonly string[] }
  told: (made: Schemas['MadeToken']) => Said
}) {
  const { title, label, tokens, make, revoke, asked, told } = props
  const [asking, setAsking] = useState(false)
  const [made, setMade] = useState<Schemas['MadeToken'] | null>(null)
  return (
    <Section
      title={title}
      fact={
        <button className="link" onClick={() => setAsking(true)}>
          New token
        </button>
      }
    >
      <TokenTable
        label={label}
        tokens={tokens}
        busy={revoke.isPending}
        onRevoke={(name) => revoke.mutate(name, { onSuccess: () => toast(`${name} is revoked.`) })}
      />
      <Refusal error={revoke.error} />
      {asking && (
        <TokenDialog
          {...asked}
          pending={make.isPending}
          error={make.error}
          onClose={() => setAsking(false)}
          onMake={(wanted) =>
            make.mutate(wanted, {
              onSuccess: (token) => {
                setAsking(false)
                setMade(token)
              },
            })
          }
        />
      )}
      {made && <SecretDialog {...told(made)} secret={made.secret} onClose={() => setMade(null)} />}
    </Section>
  )
}

function TokenTable(props: {
  label: string
  tokens: Token[]
  onRevoke: (name: string) => void
  busy: boolean
}) {
  const { label, tokens, onRevoke, busy } = props
  if (tokens.length === 0) return <p className="lab py-2">None yet.</p>
  return (
    <DataTable
      label={label}
      rows={tokens}
      keyOf={(row) => `${row.name} ${row.created_at}`}
      head="lab h-6 border-b border-line2"
      columns={[
        { name: 'name', heads: true, className: 'mono', cell: (row) => row.name },
        { name: 'for', className: 'text-ink2', cell: (row) => row.scopes.join(', ') },
        {
          name: 'projects',
          className: 'text-ink2',
          cell: (row) => (row.projects === null ? 'all of yours' : row.projects.join(', ')),
        },
        { name: 'ends', className: 'text-ink2 whitespace-nowrap', cell: (row) => <End token={row} /> },
        {
          name: 'last used',
          className: 'text-ink2 whitespace-nowrap',
          title: (row) => row.last_used_from || undefined,
          cell: (row) =>
            row.last_used_at
              ? `${moment(row.last_used_at)} from ${row.last_used_from.split(' ')[0]}`
              : 'never',
        },
        {
          name: 'act',
          head: null,
          right: true,
          cell: (row) => (
            <button
              className="link text-bad"
              aria-label={`Revoke ${row.name}`}
              disabled={busy}
              onClick={() => onRevoke(row.name)}
            >
              Revoke
            </button>
          ),
        },
      ]}
    />
  )
}

function End({ token }: { token: Token }) {
  if (token.expires_at === null) return 'never'
  const over = new Date(token.expires_at) < new Date()
  return (
    <span className={over ? 'text-bad' : undefined}>{over ? 'has ended' : moment(token.expires_at)}</span>
  )
}

function TokenDialog(props: {
  title: string
  scopes: readonly string[]
  pending: boolean
  error: Error | null
  onMake: (wanted: Wanted) => void
  onClose: () => void
}) {
  const [name, setName] = useState('')
  const [scopes, setScopes] = useState<readonly string[]>(props.scopes)
  const [days, setDays] = useState('90')
  const turn = (scope: string) =>
    setScopes(scopes.includes(scope) ? scopes.filter((one) => one !== scope) : [...scopes, scope])
  return (
    <DialogForm
      title={props.title}
      act="Make the token"
      error={props.error}
      pending={props.pending}
      onClose={props.onClose}
      onSubmit={() => props.onMake({ name, scopes: [...scopes], days: days === '' ? null : Number(days) })}
    >
      <Field label="Name" value={name} onChange={setName} required hint="What it is for: laptop, nightly" />
      <fieldset className="text-xs text-ink2">
        <legend className="mb-1">For</legend>
        {SCOPES.map(([scope, what]) => (
          <label key={scope} className="flex items-baseline gap-2 py-0.5">
            <input type="checkbox" checked={scopes.includes(scope)} onChange={() => turn(scope)} />
            <span className="mono w-[86px] text-ink">{scope}</span>
            {what}
          </label>
        ))}
      </fieldset>
      <Choice
        label="Ends"
        value={days}
        onChange={setDays}
        options={[
          ['7', 'in a week'],
          ['30', 'in 30 days'],
          ['90', 'in 90 days'],
          ['365', 'in a year'],
          ['', 'never'],
        ]}
      />
    </DialogForm>
  )
}

/** A secret that the service does not show again: copied, then closed. */
export function SecretDialog(props: { title: string; text: string; secret: string; onClose: () => void }) {
  const [copied, setCopied] = useState(false)
  return (
    <Modal title={props.title} onClose={props.onClose}>
      <p className="text-sm text-ink2">{props.text}</p>
      <p className="mono mt-3 rounded-[3px] bg-bg p-2 text-xs break-all select-all">{props.secret}</p>
      <div className="mt-3 flex justify-end gap-2">
        <button
          className="btn"
          onClick={() => void navigator.clipboard.writeText(props.secret).then(() => setCopied(true))}
        >
          {copied ? 'Copied' : 'Copy'}
        </button>
        <button className="btn btn-p" onClick={props.onClose}>
          I have it
        </button>
      </div>
    </Modal>
  )
}

export const endOf = (made: Schemas['MadeToken']) =>
  made.expires_at ? `It ends ${moment(made.expires_at)}.` : 'It does not end.'
