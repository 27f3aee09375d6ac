/** Lets in who is signed in; shows the sign-in page to everybody else. */
import { useEffect, useState, type FormEvent } from 'react'
import { Outlet } from 'react-router'
import { useWaysIn } from '../../api/access'
import { useSignIn } from '../../api/acts'
import { ServiceError, setCsrfToken } from '../../api/client'
import { useMe } from '../../api/queries'
import { Palette } from '../../parts/Palette'
import { Waiting } from '../../parts/Shell'
import { suggestTheme } from '../../parts/theme'
import { setTimeZone } from '../../parts/values'
import { API, BELOW } from '../../api/place'

export function Gate() {
  const { data: me, error, isPending } = useMe()
  if (me?.csrf_token) setCsrfToken(me.csrf_token)
  if (me) setTimeZone(me.time_zone)
  useEffect(() => {
    if (me) suggestTheme(me.theme)
  }, [me])
  if (isPending) return <Waiting error={null} />
  if (me) {
    return (
      <>
        <Outlet />
        <Palette />
      </>
    )
  }
  if (me === null || (error instanceof ServiceError && error.status === 401)) return <SignIn />
  return <Waiting error={error} />
}

/** Why the provider's answer led back here, by the word in the address. */
const REFUSED: Record<string, string> = {
  'begun-elsewhere': 'This attempt to sign in was not begun in this browser, or took too long; begin again.',
  refused: 'The provider did not let you in.',
  deactivated: 'Your account was deactivated here; an administrator can let you in again.',
  unreached: 'The provider does not answer just now; try again in a moment.',
  'not-believed': 'What the provider told is not to be believed; begin again.',
}

function SignIn() {
  const signIn = useSignIn()
  const { data: ways } = useWaysIn()
  const [address] = useState(() => new URLSearchParams(window.location.search))
  const refused = address.get('refused')
  const here = refused ? `${BELOW}/` : window.location.pathname + window.location.search
  const [name, setName] = useState('')
  const [password, setPassword] = useState('')
  useEffect(() => {
    document.title = 'Sign in · Kinetrum'
  }, [])
  const submit = (event: FormEvent) => {
    event.preventDefault()
    signIn.mutate({ name, password })
  }
  return (
    <main className="mx-auto flex min-h-screen w-[320px] flex-col justify-center pb-24">
      <p className="strong text-base tracking-[.02em] text-accent">Kinetrum</p>
      <h1 className="answer mt-1">
        <b>Sign in</b> to see what was recorded.
      </h1>
      {refused && (
        <p role="alert" className="mt-3 text-xs text-bad">
          {REFUSED[refused] ?? REFUSED['not-believed']}
        </p>
      )}
      {ways?.elsewhere && (
        <a
          className="btn btn-p mt-4 flex h-8 items-center justify-center"
          href={`${API}/sign-in/elsewhere?to=${encodeURIComponent(here)}`}
        >
          {ways.elsewhere}
        </a>
      )}
      {ways?.passwords !== false && (
        <>
          {ways?.elsewhere && <p className="mt-4 text-xs text-ink3">or with a password of this instance</p>}
          <form onSubmit={submit} className="mt-4 flex flex-col gap-3">
            <label className="flex flex-col gap-1 text-xs text-ink2">
              Name
              <input
                className="field h-8 text-sm"
                autoComplete="username"
                required
                value={name}
                onChange={(event) => setName(event.target.value)}
              />
            </label>
            <label className="flex flex-col gap-1 text-xs text-ink2">
              Password
              <input
                className="field h-8 text-sm"
                type="password"
                autoComplete="current-password"
                required
                value={password}
                onChange={(event) => setPassword(event.target.value)}
              />
            </label>
            {signIn.error && (
              <p role="alert" className="text-xs text-bad">
                {signIn.error.message}
              </p>
            )}
            <button className="btn btn-p h-8" disabled={signIn.isPending}>
              Sign in
            </button>
          </form>
        </>
      )}
      <p className="mt-6 border-t border-line pt-3 text-xs text-ink3">
        On an instance of your own, the name and the first password stand in the file that{' '}
        <code className="mono">kinetrum up</code> names.
      </p>
    </main>
  )
}
