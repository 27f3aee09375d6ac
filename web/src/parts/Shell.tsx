/** The frame of every page: bar, crumbs, sign-out, the answer sentence, and states of loading and failure. */
import { Menu, MenuButton, MenuItem, MenuItems } from '@headlessui/react'
import { useEffect, type MouseEvent, type ReactNode } from 'react'
import { Link, Outlet, useLocation, useOutletContext, useParams } from 'react-router'
import { useSignOut } from '../api/acts'
import { ServiceError } from '../api/client'
import { useLive } from '../api/live'
import { useExperiments, useMe, useProjects } from '../api/queries'
import { showPalette } from './Palette'
import { chooseTheme, useTheme } from './theme'
import { Toasts } from './Toasts'
import { plural } from './values'

export type Crumb = { text: string; to?: string }

export const useConnected = () => useOutletContext<{ connected: boolean }>().connected

export function ProjectFrame() {
  const { project } = useParams()
  const connected = useLive(project)
  return (
    <>
      <Lost connected={connected} />
      <Outlet context={{ connected }} />
      <Toasts />
    </>
  )
}

export function Lost({ connected }: { connected: boolean }) {
  if (connected) return null
  return (
    <p role="status" className="bg-bad px-6 py-1 text-xs text-onaccent">
      The live connection is gone; trying again. What you see may be old.
    </p>
  )
}

function Running({ project }: { project: string }) {
  const { data } = useExperiments(project)
  const running = data?.reduce((sum, row) => sum + row.running, 0)
  return (
    <span className="ml-4 whitespace-nowrap text-xs text-ink2">
      {running === undefined ? '' : `${running} running`}
    </span>
  )
}

export function Person() {
  const { data: me } = useMe()
  const signOut = useSignOut()
  const theme = useTheme()
  const other = theme === 'dark' ? 'light' : 'dark'
  const places = [
    ['Your account', '/account'],
    ...(me?.is_admin
      ? [
          ['People', '/people'],
          ['Journal', '/journal'],
          ['Instance', '/instance'],
        ]
      : []),
  ] as [string, string][]
  return (
    <Menu>
      <MenuButton className="ml-4 border-l border-line pl-4 text-xs whitespace-nowrap">
        {me?.full_name} ▾
      </MenuButton>
      <MenuItems
        anchor="bottom end"
        className="z-20 mt-1 rounded-[3px] border border-line2 bg-surface py-1 text-xs shadow-md focus:outline-none"
      >
        {places.map(([name, to]) => (
          <MenuItem key={to}>
            <Link to={to} className="block px-3 py-1 data-focus:bg-soft">
              {name}
            </Link>
          </MenuItem>
        ))}
        <MenuItem>
          <button
            className="block w-full px-3 py-1 text-left data-focus:bg-soft"
            onClick={() => chooseTheme(other)}
          >
            Switch to {other}
          </button>
        </MenuItem>
        <MenuItem>
          <button
            className="block w-full px-3 py-1 text-left data-focus:bg-soft"
            onClick={() => signOut.mutate()}
          >
            Sign out
          </button>
        </MenuItem>
      </MenuItems>
    </Menu>
  )
}

export function PaletteButton() {
  return (
    <button
      className="ml-5 flex h-6 w-[168px] items-center justify-between rounded-[3px] border border-line2 bg-bg px-2 text-xs text-ink3"
      onClick={() => showPalette(true)}
    >
      Go to or do anything <span className="text-2xs">Ctrl K</span>
    </button>
  )
}

function ProjectChoice({ project }: { project: string }) {
  const { data } = useProjects()
  if (!data || data.length < 2) return <Link to={`/${project}`}>{project}</Link>
  return (
    <Menu>
      <MenuButton className="text-ink2">
        {project} <span aria-hidden>▾</span>
      </MenuButton>
      <MenuItems
        anchor="bottom start"
        className="z-20 mt-1 rounded-[3px] border border-line2 bg-surface py-1 text-sm shadow-md focus:outline-none"
      >
        {data.map((row) => (
          <MenuItem key={row.name}>
            <Link to={`/${row.name}`} className="block px-3 py-1 data-focus:bg-soft">
              {row.name} <span className="text-xs text-ink3">{plural(row.runs, 'run')}</span>
            </Link>
          </MenuItem>
        ))}
      </MenuItems>
    </Menu>
  )
}

export function Page({
  crumbs,
  at,
  title,
  children,
}: {
  crumbs: Crumb[]
  at: 'Experiments' | 'Data' | 'Models'
  title: string
  children: ReactNode
}) {
  const { project = '' } = useParams()
  const { pathname } = useLocation()
  useEffect(() => {
    document.title = `${title} · Kinetrum`
  }, [title])
  if (pathname.startsWith('/embed/')) return <Framed>{children}</Framed>
  const places = [
    ['Today', '/'],
    ['Experiments', `/${project}`],
    ['Data', `/${project}/data`],
    ['Models', `/${project}/models`],
  ] as const
  return (
    <div className="flex min-h-screen flex-col bg-surface">
      <header className="flex h-10 shrink-0 items-center border-b border-line2 bg-surface px-6 text-sm">
        <Link to={`/${project}`} className="strong mr-6 tracking-[.02em] text-accent">
          Kinetrum
        </Link>
        <nav aria-label="Breadcrumb" className="flex min-w-0 items-baseline gap-2">
          <ProjectChoice project={project} />
          {crumbs.map((crumb, index) => (
            <span key={crumb.text} className="flex min-w-0 items-baseline gap-2">
              <span className="text-line2" aria-hidden>
                /
              </span>
              {crumb.to ? (
                <Link to={crumb.to} className="text-ink2 hover:text-ink">
                  {crumb.text}
                </Link>
              ) : (
                <span
                  className="strong truncate"
                  aria-current={index === crumbs.length - 1 ? 'page' : undefined}
                >
                  {crumb.text}
                </span>
              )}
            </span>
          ))}
        </nav>
        <nav aria-label="Pages" className="ml-auto flex gap-4 text-ink2">
          {places.map(([name, to]) => (
            <Link
              key={name}
              to={to}
              className={`border-b-2 leading-[38px] ${name === at ? 'border-accent text-ink' : 'border-transparent'}`}
            >
              {name}
            </Link>
          ))}
        </nav>
        <PaletteButton />
        <Running project={project} />
        <Person />
      </header>
      <main className="flex min-h-0 flex-1 flex-col">{children}</main>
    </div>
  )
}

/** A page in a frame of another: no chrome, and links open beside it. */
function Framed({ children }: { children: ReactNode }) {
  const beside = (event: MouseEvent) => {
    const link = (event.target as HTMLElement).closest('a')
    if (!link || link.hasAttribute('download')) return
    event.preventDefault()
    event.stopPropagation()
    window.open(link.href, '_blank', 'noopener')
  }
  return (
    <main className="flex min-h-screen flex-col bg-surface" onClickCapture={beside}>
      {children}
    </main>
  )
}

export function Answer({
  children,
  reason,
  right,
}: {
  children: ReactNode
  reason?: ReactNode
  right?: ReactNode
}) {
  return (
    <section className="flex shrink-0 items-end gap-6 px-6 pt-3 pb-2.5">
      <div className="min-w-0 flex-1">
        <h1 className="answer">{children}</h1>
        {reason && <p className="mt-0.5 text-xs text-ink2">{reason}</p>}
      </div>
      {right && <div className="flex shrink-0 gap-2 pb-0.5">{right}</div>}
    </section>
  )
}

/** What a page shows while its data is on the way or could not be had. */
export function Waiting({ error }: { error: unknown }) {
  if (!error) {
    return (
      <p className="px-6 py-8 text-ink3" role="status">
        Reading …
      </p>
    )
  }
  const status = error instanceof ServiceError ? error.status : 0
  const title = status === 404 ? 'Not found' : status === 403 ? 'Not allowed' : 'That did not work'
  return (
    <div className="px-6 py-8" role="alert">
      <h1 className="answer">
        <b>{title}.</b> {error instanceof Error ? error.message : String(error)}
      </h1>
      <p className="mt-2 text-sm text-ink2">
        <Link className="link" to="/">
          Go to your projects
        </Link>
      </p>
    </div>
  )
}
