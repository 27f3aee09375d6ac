/** One's own account: name, time zone, theme, password, sessions, tokens. */
import { useState, type FormEvent } from 'react'
import {
  useAccount,
  useChangeAccount,
  useChangePassword,
  useEndSession,
  useMakeToken,
  useRevokeToken,
  useSessions,
  useTokens,
} from '../../api/access'
import type { Schemas } from '../../api/client'
import { DataTable } from '../../parts/DataTable'
import { Choice, Field, Refusal } from '../../parts/Field'
import { InstancePage } from '../../parts/InstancePage'
import { Section } from '../../parts/Marks'
import { Answer, Waiting } from '../../parts/Shell'
import { followSystem, chooseTheme } from '../../parts/theme'
import { toast } from '../../parts/Toasts'
import { endOf, TokenSection } from '../../parts/Tokens'
import { moment, plural, setTimeZone } from '../../parts/values'

export default function Account() {
  const { data, error } = useAccount()
  const sessions = useSessions()
  const tokens = useTokens()
  return (
    <InstancePage title="Your account">
      {data ? (
        <>
          <Answer reason={rolesOf(data)}>
            <b>{data.full_name}</b> signs in as {data.name}
            {data.is_admin ? ', administrator' : ''}; {plural(sessions.data?.length ?? 0, 'session')} and{' '}
            {plural(tokens.data?.length ?? 0, 'token')} now.
          </Answer>
          <div className="grid grid-cols-12 content-start gap-x-6 gap-y-5 px-6 pb-6">
            <div className="col-span-8 flex flex-col gap-5">
              <Tokens tokens={tokens.data ?? []} />
              <Sessions sessions={sessions.data ?? []} />
            </div>
            <div className="col-span-4 flex flex-col gap-5">
              <About own={data} />
              {data.has_password && <Password />}
            </div>
          </div>
        </>
      ) : (
        <Waiting error={error} />
      )}
    </InstancePage>
  )
}

function rolesOf(own: Schemas['Own']) {
  const roles = Object.entries(own.roles).map(([project, role]) => `${role} in ${project}`)
  const groups = own.groups.length ? ` Of ${own.groups.join(', ')}.` : ''
  return `${roles.length ? `${roles.join(', ')}.` : 'No role in a project yet.'}${groups}`
}

function About({ own }: { own: Schemas['Own'] }) {
  const change = useChangeAccount()
  const [fullName, setFullName] = useState(own.full_name)
  const [zone, setZone] = useState(own.time_zone)
  const [theme, setTheme] = useState(own.theme)
  const submit = (event: FormEvent) => {
    event.preventDefault()
    change.mutate(
      { full_name: fullName, time_zone: zone, theme },
      {
        onSuccess: (after) => {
          setTimeZone(after.time_zone)
          if (after.theme === 'light' || after.theme === 'dark') chooseTheme(after.theme)
          else followSystem()
          toast('Your account is changed.')
        },
      },
    )
  }
  return (
    <Section title="About you">
      <form className="flex flex-col gap-3 pt-2" onSubmit={submit}>
        <Field label="Full name" value={fullName} onChange={setFullName} required autoComplete="name" />
        <Field
          label="Time zone"
          value={zone}
          onChange={setZone}
          placeholder={Intl.DateTimeFormat().resolvedOptions().timeZone}
          hint="Times are shown in it; empty: that of the browser"
        />
        <Choice
          label="Theme"
          value={theme}
          onChange={setTheme}
          options={[
            ['', 'as the system'],
            ['light', 'light'],
            ['dark', 'dark'],
          ]}
        />
        <Refusal error={change.error} />
        <button className="btn btn-p self-end" disabled={change.isPending}>
          Save
        </button>
      </form>
    </Section>
  )
}

function Password() {
  const change = useChangePassword()
  const [current, setCurrent] = useState('')
  const [password, setPassword] = useState('')
  const [revoke, setRevoke] = useState(false)
  const submit = (event: FormEvent) => {
    event.preventDefault()
    change.mutate(
      { current, password, revoke_tokens: revoke },
      {
        onSuccess: () => {
          setCurrent('')
          setPassword('')
          toast('The password is changed; your other sessions have ended.')
        },
      },
    )
  }
  return (
    <Section title="Password">
      <form className="flex flex-col gap-3 pt-2" onSubmit={submit}>
        <Field
          label="Present password"
          type="password"
          value={current}
          onChange={setCurrent}
          autoComplete="current-password"
          required
        />
        <Field
          label="New password"
          type="password"
          value={password}
          onChange={setPassword}
          autoComplete="new-password"
          required
          hint="At least 12 characters. Your other sessions end."
        />
        <label className="flex items-baseline gap-2 text-xs text-ink2">
          <input type="checkbox" checked={revoke} onChange={() => setRevoke(!revoke)} />
          Revoke all my tokens too
        </label>
        <Refusal error={change.error} />
        <button className="btn btn-p self-end" disabled={change.isPending}>
          Change the password
        </button>
      </form>
    </Section>
  )
}

/** The address, and the browser and system as people call them. */
function placeOf(origin: string) {
  const [address = '', ...program] = origin.split(' ')
  const words = program.join(' ')
  const browser = ['Firefox', 'Edg', 'Chrome', 'Safari'].find((name) => words.includes(name))
  const system = ['Android', 'iPhone', 'iPad', 'Windows', 'Mac OS', 'Linux'].find((name) =>
    words.includes(name),
  )
  if (!address) return 'unknown'
  if (!browser) return `${address} ${words.slice(0, 40)}`
  return `${address}, ${browser === 'Edg' ? 'Edge' : browser}${system ? ` on ${system}` : ''}`
}

function Sessions({ sessions }: { sessions: Schemas['Session'][] }) {
  const end = useEndSession()
  return (
    <Section
      title="Sessions"
      fact={
        sessions.length > 1 && (
          <button className="link" disabled={end.isPending} onClick={() => end.mutate(null)}>
            End all others
          </button>
        )
      }
    >
      <DataTable
        label="Sessions"
        rows={sessions}
        keyOf={(row) => row.id}
        head="lab h-6 border-b border-line2"
        columns={[
          {
            name: 'from',
            heads: true,
            className: 'max-w-[360px] truncate',
            title: (row) => row.origin,
            cell: (row) => placeOf(row.origin),
          },
          { name: 'opened', className: 'text-ink2', cell: (row) => moment(row.opened_at) },
          { name: 'last seen', className: 'text-ink2', cell: (row) => moment(row.seen_at) },
          {
            name: 'act',
            head: null,
            right: true,
            cell: (row) =>
              row.is_this ? (
                <span className="text-ink3">this one</span>
              ) : (
                <button className="link" disabled={end.isPending} onClick={() => end.mutate(row.id)}>
                  End
                </button>
              ),
          },
        ]}
      />
      <Refusal error={end.error} />
    </Section>
  )
}

function Tokens({ tokens }: { tokens: Schemas['TokenView'][] }) {
  return (
    <TokenSection
      title="Tokens"
      label="Your tokens"
      tokens={tokens}
      make={useMakeToken()}
      revoke={useRevokeToken()}
      asked={{
        title: 'A token of yours',
        scopes: ['read', 'record', 'register', 'review', 'place', 'report'],
      }}
      told={(made) => ({
        title: `The token ${made.name}`,
        text: `It is shown this once; keep it like a password. ${endOf(made)}`,
      })}
    />
  )
}
