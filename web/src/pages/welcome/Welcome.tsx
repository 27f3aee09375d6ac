/** What a link for an account opens: the person chooses a password, once. */
import { useEffect, useState, type FormEvent } from 'react'
import { Link, useParams } from 'react-router'
import { useChoosePassword, useWelcome } from '../../api/access'
import { Field, Refusal } from '../../parts/Field'
import { moment } from '../../parts/values'

export default function Welcome() {
  const { secret = '' } = useParams()
  const { data, error } = useWelcome(secret)
  const choose = useChoosePassword(secret)
  const [password, setPassword] = useState('')
  const [again, setAgain] = useState('')
  const [revoke, setRevoke] = useState(false)
  useEffect(() => {
    document.title = 'Choose a password · Kinetrum'
  }, [])
  const different = again !== '' && again !== password
  const submit = (event: FormEvent) => {
    event.preventDefault()
    if (password === again) choose.mutate({ password, revoke_tokens: revoke })
  }
  return (
    <main className="mx-auto flex min-h-screen w-[360px] flex-col justify-center pb-24">
      <p className="strong text-base tracking-[.02em] text-accent">Kinetrum</p>
      {error && <h1 className="answer mt-1">{error.message}</h1>}
      {choose.isSuccess && data && (
        <>
          <h1 className="answer mt-1">
            <b>Welcome, {data.full_name}.</b> You sign in as {data.name}.
          </h1>
          <p className="mt-4">
            <Link className="btn btn-p" to="/">
              Sign in
            </Link>
          </p>
        </>
      )}
      {data && !choose.isSuccess && (
        <>
          <h1 className="answer mt-1">
            <b>{data.full_name}</b>, choose {data.purpose === 'invitation' ? 'your' : 'a new'} password.
          </h1>
          <form onSubmit={submit} className="mt-4 flex flex-col gap-3">
            <input type="text" autoComplete="username" value={data.name} readOnly hidden />
            <Field
              label="Password"
              type="password"
              autoComplete="new-password"
              value={password}
              onChange={setPassword}
              required
              hint="At least 12 characters, whatever they are"
            />
            <Field
              label="Once more"
              type="password"
              autoComplete="new-password"
              value={again}
              onChange={setAgain}
              required
              hint={different ? 'These are two different ones.' : undefined}
            />
            {data.purpose !== 'invitation' && (
              <label className="flex items-baseline gap-2 text-xs text-ink2">
                <input type="checkbox" checked={revoke} onChange={() => setRevoke(!revoke)} />
                Revoke all my tokens too
              </label>
            )}
            <Refusal error={choose.error} />
            <button className="btn btn-p h-8" disabled={choose.isPending || different}>
              Choose it
            </button>
          </form>
          <p className="mt-6 border-t border-line pt-3 text-xs text-ink3">
            You will sign in as <code className="mono">{data.name}</code>. This page opens once, until{' '}
            {moment(data.expires_at)}.
          </p>
        </>
      )}
    </main>
  )
}
