/** The palette, opened: goes to anything by reference or fragment, and does anything that the open page offers. */
import {
  Combobox,
  ComboboxInput,
  ComboboxOption,
  ComboboxOptions,
  Dialog,
  DialogPanel,
} from '@headlessui/react'
import { useState } from 'react'
import { useLocation, useNavigate } from 'react-router'
import { useSignOut } from '../api/acts'
import { useFind } from '../api/finding'
import { PAGES, PROJECT_PAGES, type Page } from '../pages/pages'
import { useOffered, type Action } from './actions'
import { showPalette } from './Palette'
import { chooseTheme, useTheme } from './theme'

type Item = {
  id: string
  kind: string
  title: string
  about: string
  words: string
  to?: string
  act?: () => void
}

const REMEMBERED = 'palette'
const SHOWN = 14

function remembered(): Item[] {
  try {
    const found = JSON.parse(localStorage.getItem(REMEMBERED) ?? '[]') as unknown
    return Array.isArray(found) ? (found as Item[]).filter((item) => typeof item.to === 'string') : []
  } catch {
    return []
  }
}

function remember(item: Item) {
  const { id, kind, title, about, words, to } = item
  const rest = remembered().filter((other) => other.id !== id)
  localStorage.setItem(
    REMEMBERED,
    JSON.stringify([{ id, kind, title, about, words, to }, ...rest].slice(0, 8)),
  )
}

/** Pages, in the words that people may type for them. */
function pagesOf(project: string | undefined): Item[] {
  const itemsOf = (pages: readonly Page[], about: string, below: string) =>
    pages.flatMap(({ path, palette }): Item[] => {
      const to = path ? `${below}${path}` : below.replace(/\/$/, '')
      return palette ? [{ id: to, kind: 'page', about, to, ...palette }] : []
    })
  return [...itemsOf(PAGES, '', ''), ...(project ? itemsOf(PROJECT_PAGES, project, `/${project}/`) : [])]
}

function fits(item: Item, text: string): boolean {
  const held = `${item.title} ${item.words} ${item.kind}`.toLowerCase()
  return text
    .toLowerCase()
    .split(/\s+/)
    .every((part) => held.includes(part))
}

const ofAction = (action: Action): Item => ({
  id: `do:${action.name}`,
  kind: 'action',
  title: action.name,
  about: 'on this page',
  words: `do ${action.words ?? ''}`,
  act: action.act,
})

/** Other words that people may type for what buttons say. */
const WORDS: [RegExp, string][] = [
  [/^bin/i, 'trash delete remove archive'],
  [/^restore/i, 'undelete undo bring back'],
  [/^note|add note/i, 'comment annotate remark'],
  [/^label/i, 'tag mark'],
  [/^rename/i, 'title call'],
  [/register/i, 'publish model registry version'],
  [/^promote/i, 'deploy release stage ship'],
  [/^demote|roll back/i, 'undo revert rollback withdraw'],
  [/^approve/i, 'accept sign off review ok'],
  [/^reject/i, 'decline refuse review'],
  [/^keep|drop/i, 'upload add file data'],
  [/^swap/i, 'baseline turn round'],
  [/^export|archive/i, 'download save'],
]
const BUTTON_LIMIT = 40

/** What the page's own buttons do, as long as they may be pressed; those that open menus are named by their page. */
function buttonsOnPage(): Item[] {
  const found = new Map<string, Item>()
  for (const button of document.querySelectorAll<HTMLElement>('main button, main a.btn')) {
    const name = (button.ariaLabel ?? button.innerText).trim()
    const rests = button.hasAttribute('disabled') || button.hasAttribute('aria-haspopup')
    const inTable = button.closest('[role=treegrid], table, [role=listbox]') !== null
    if (!name || name.length > 60 || name.includes('\n') || rests || inTable || found.has(name)) continue
    const words = WORDS.filter(([pattern]) => pattern.test(name)).map(([, other]) => other)
    const act = () => button.click()
    found.set(name, {
      id: `press:${name}`,
      kind: 'action',
      title: name,
      about: 'on this page',
      words: `do ${words.join(' ')}`,
      act,
    })
    if (found.size >= BUTTON_LIMIT) break
  }
  return [...found.values()]
}

function useItems(text: string): Item[] {
  const { pathname } = useLocation()
  const first = pathname.split('/')[1]
  const project = first && !['projects', 'shared', 'embed'].includes(first) ? first : undefined
  const theme = useTheme()
  const signOut = useSignOut()
  const offered = useOffered()
  const [buttons] = useState(buttonsOnPage)
  const found = useFind(text, project)
  const other = theme === 'dark' ? 'light' : 'dark'
  const fixed: Item[] = [
    ...offered.filter((action) => !action.off).map(ofAction),
    ...buttons,
    ofAction({
      name: `Switch to ${other}`,
      words: 'theme colours night mode',
      act: () => chooseTheme(other),
    }),
    ofAction({ name: 'Sign out', words: 'log out leave', act: () => signOut.mutate() }),
  ]
  const pages = pagesOf(project)
  if (!text.trim()) {
    const known = remembered()
    return [...known, ...pages.filter((page) => !known.some((item) => item.id === page.id)), ...fixed]
  }
  const named: Item[] = (found.data ?? []).map((each) => ({
    id: each.address,
    kind: each.kind,
    title: each.title,
    about: [each.reference !== each.title ? each.reference : '', each.about].filter(Boolean).join(', '),
    words: each.reference,
    to: each.address,
  }))
  const exact = named.filter((item) => [item.title, item.words].includes(text.trim()))
  const rest = named.filter((item) => !exact.includes(item))
  return [...exact, ...[...pages, ...fixed].filter((item) => fits(item, text)), ...rest]
}

export default function PaletteDialog() {
  const [text, setText] = useState('')
  const navigate = useNavigate()
  const items = useItems(text)
  const close = () => showPalette(false)
  const take = (item: Item | null) => {
    if (!item) return
    close()
    if (item.to) {
      remember(item)
      void navigate(item.to)
    } else if (item.act) setTimeout(item.act)
  }
  return (
    <Dialog open onClose={close} className="relative z-40" aria-label="Palette">
      <div className="fixed inset-0 bg-black/20" aria-hidden />
      <div className="fixed inset-0 flex items-start justify-center pt-[12vh]">
        <DialogPanel className="w-[600px] rounded border border-line2 bg-surface shadow-lg">
          <Combobox immediate value={null} onChange={take}>
            <ComboboxInput
              autoFocus
              aria-label="Go to or do anything"
              className="w-full border-b border-line bg-surface px-4 py-3 text-base outline-none"
              placeholder="a run, an experiment, data, a model, a page, an action"
              value={text}
              onChange={(event) => setText(event.target.value)}
              onKeyDown={(event) => event.key === 'Escape' && close()}
              autoComplete="off"
              spellCheck={false}
            />
            <ComboboxOptions static className="max-h-[52vh] overflow-auto py-1" aria-label="What fits">
              {items.slice(0, SHOWN).map((item) => (
                <ComboboxOption
                  key={item.id}
                  value={item}
                  className="flex cursor-pointer items-baseline gap-3 px-4 py-1 text-sm data-focus:bg-soft"
                >
                  <span className="lab w-[68px] shrink-0">{item.kind}</span>
                  <span className="truncate">{item.title}</span>
                  <span className="ml-auto truncate pl-4 text-xs text-ink3">{item.about}</span>
                </ComboboxOption>
              ))}
            </ComboboxOptions>
            {items.length === 0 && (
              <p className="px-4 py-3 text-sm text-ink2" role="status">
                Nothing fits. References such as frost-alarm/42 and parts of names do.
              </p>
            )}
          </Combobox>
        </DialogPanel>
      </div>
    </Dialog>
  )
}
