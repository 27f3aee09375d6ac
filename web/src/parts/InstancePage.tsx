/** The frame of pages that belong to no project: one's own account, and what administrators look after. */
import { useEffect, type ReactNode } from 'react'
import { Link, useLocation } from 'react-router'
import { useMe } from '../api/queries'
import { PaletteButton, Person } from './Shell'
import { Toasts } from './Toasts'

export function InstancePage({ title, children }: { title: string; children: ReactNode }) {
  const { pathname } = useLocation()
  const { data: me } = useMe()
  useEffect(() => {
    document.title = `${title} · Kinetrum`
  }, [title])
  const places = [
    ['Today', '/', true],
    ['Projects', '/projects', true],
    ['Your account', '/account', true],
    ['People', '/people', me?.is_admin],
    ['Journal', '/journal', me?.is_admin],
    ['Instance', '/instance', me?.is_admin],
  ] as const
  return (
    <div className="flex min-h-screen flex-col bg-surface">
      <header className="flex h-10 shrink-0 items-center border-b border-line2 px-6 text-sm">
        <Link to="/" className="strong mr-6 tracking-[.02em] text-accent">
          Kinetrum
        </Link>
        <nav aria-label="Pages" className="ml-auto flex gap-4 text-ink2">
          {places
            .filter(([, , shown]) => shown)
            .map(([name, to]) => (
              <Link
                key={name}
                to={to}
                aria-current={pathname === to ? 'page' : undefined}
                className={`border-b-2 leading-[38px] ${pathname === to ? 'border-accent text-ink' : 'border-transparent'}`}
              >
                {name}
              </Link>
            ))}
        </nav>
        <PaletteButton />
        <Person />
      </header>
      <main className="flex min-h-0 flex-1 flex-col">{children}</main>
      <Toasts />
    </div>
  )
}
