/** The run table: full width, lines read as they come into sight, the name column and pinned ones stay put. */
import { useVirtualizer } from '@tanstack/react-virtual'
import {
  useCallback,
  useEffect,
  useLayoutEffect,
  useMemo,
  useRef,
  useState,
  type KeyboardEvent,
  type MouseEvent,
} from 'react'
import type { RunPage } from '../../../api/client'
import { PAGE, type Asked } from '../../../api/finding'
import { SELECTED_LIMIT, type Selection } from '../../../parts/selection'
import type { Column } from '../columns'
import { turned } from '../words'
import { Head, sortedBy, type ColumnActs } from './Head'
import { STRIPE } from './groups'
import { useLines, type Line, type Span } from './lines'
import { GroupLine, InWindow, PlainLine, RunLine } from './Rows'
import { useColumnWindow } from './window'
import { NAME_WIDTH, REASON_WIDTH, ROW, shapesOf, STARTED_WIDTH } from './shapes'

type Props = {
  place: { project: string; experiment: string }
  asked: Asked
  group: string | null
  page: RunPage
  total: number | undefined
  columns: Column[]
  pins: string[]
  widths: Map<string, number>
  acts: ColumnActs
  selection: Selection
  onToggle: (number: string) => void
  onSelect: (numbers: string[]) => void
  onOpen: (reference: string) => void
}

export function RunTable(props: Props) {
  const { place, asked, group, page, total, columns, pins, widths, acts, selection } = props
  const { onToggle, onSelect, onOpen } = props
  const holder = useRef<HTMLDivElement>(null)
  const [open, setOpen] = useState<Set<string>>(new Set())
  const [span, setSpan] = useState<Span>({ first: 0, last: PAGE - 1 })
  const [reach, setReach] = useState(0)
  const texts = useMemo(() => columns.map((column) => column.text), [columns])
  const { length, lineAt, grouped, whole, error } = useLines(
    place, asked, group, page, span, open, total, texts, reach,
  ) // prettier-ignore
  const shapes = useMemo(
    () => shapesOf(columns, page, grouped, pins, widths),
    [columns, page, grouped, pins, widths],
  )
  const rows = useVirtualizer({
    count: length,
    getScrollElement: () => holder.current,
    estimateSize: () => ROW,
    overscan: 8,
  })
  const items = rows.getVirtualItems()
  const first = items[0]?.index ?? 0
  const last = items.at(-1)?.index ?? 0
  // Only whole pages matter to what is read; anything finer would draw the table twice for every step.
  const firstPage = Math.floor(first / PAGE) * PAGE
  const lastPage = Math.floor(last / PAGE) * PAGE + PAGE - 1
  useEffect(() => setSpan({ first: firstPage, last: lastPage }), [firstPage, lastPage])
  const [from, to] = useColumnWindow(holder, shapes)
  const seen = Math.min(to, shapes.length)
  // One stripe of columns after the other: the first are soon there, and the service has one question at a time.
  useEffect(() => {
    if (whole) setReach((before) => Math.max(before, Math.min(seen, before + STRIPE)))
  }, [seen, whole, reach])
  useEffect(() => setOpen(new Set()), [group, asked.query, place.experiment])

  const openLine = useCallback(
    (id: string) =>
      setOpen((before) => {
        const after = new Set(before)
        if (!after.delete(id)) after.add(id)
        return after
      }),
    [],
  )
  const line = useRef(lineAt)
  useLayoutEffect(() => {
    line.current = lineAt
  })
  const { focus, keys, clicked } = useMoving(line, length, holder, rows, {
    selection, onToggle, onSelect, onOpen, openLine,
  }) // prettier-ignore
  useEffect(focus)

  const height = rows.getTotalSize()
  const width =
    NAME_WIDTH + STARTED_WIDTH + shapes.reduce((sum, column) => sum + column.width, 0) + REASON_WIDTH
  return (
    <div
      ref={holder}
      className="min-h-[300px] flex-1 overflow-auto bg-surface"
      style={{ maxHeight: 'calc(100vh - 120px)' }}
    >
      <div
        className="min-w-full text-sm"
        style={{ width }}
        role="treegrid"
        aria-rowcount={length + 1}
        aria-colcount={shapes.length + 2}
        aria-multiselectable
        aria-label="Runs"
      >
        <div role="rowgroup" className="sticky top-0 z-[5] bg-surface">
          <div role="row" aria-rowindex={1} className="flex h-[34px] items-end border-b border-line2">
            <FieldHead name="number" text={group === null ? 'Run' : 'Group'} acts={acts} first />
            <FieldHead name="started" text="Started" acts={acts} />
            <InWindow shapes={shapes} from={from} to={to}>
              {(column, at) => <Head key={column.text} at={at} column={column} acts={acts} />}
            </InWindow>
          </div>
        </div>
        {error && (
          <p role="alert" className="px-6 py-6 text-bad">
            {error.message}
          </p>
        )}
        {length === 0 && !error && <p className="px-6 py-6 text-ink2">No run fits this question.</p>}
        {/* Lines are placed, not stacked: one that comes or goes moves no other. */}
        <div role="rowgroup" className="relative" style={{ height }}>
          {items.map((item) => {
            const found = lineAt(item.index)
            const common = { at: item.index, columns: shapes, from, to, onKey: keys }
            if (found.kind === 'run') {
              return (
                <RunLine
                  key={found.id}
                  {...common}
                  run={found.run}
                  inner={found.inner}
                  open={found.open}
                  slot={selection.get(String(found.run.number)) ?? null}
                  onToggle={clicked}
                  onOpen={openLine}
                />
              )
            }
            if (found.kind === 'group' && grouped) {
              return (
                <GroupLine
                  key={found.id}
                  {...common}
                  group={found.group}
                  page={grouped}
                  by={group ?? ''}
                  open={found.open}
                  onOpen={openLine}
                />
              )
            }
            return (
              <PlainLine key={found.id} at={item.index} text={found.kind === 'more' ? found.text : '…'} />
            )
          })}
        </div>
      </div>
    </div>
  )
}

function FieldHead(props: { name: string; text: string; acts: ColumnActs; first?: boolean }) {
  const { name, text, acts, first } = props
  const { place, of, ascending } = sortedBy(acts.sort, name, false)
  const sorted = place >= 0
  return (
    <div
      role="columnheader"
      aria-colindex={first ? 1 : 2}
      aria-sort={place === 0 ? (ascending ? 'ascending' : 'descending') : undefined}
      className={`shrink-0 px-2 ${first ? 'sticky left-0 z-[6] bg-surface pl-6' : ''}`}
      style={{ width: first ? NAME_WIDTH : STARTED_WIDTH }}
    >
      <button
        className={`max-w-full truncate text-xs ${sorted ? 'strong text-ink' : 'text-ink2'}`}
        onClick={(event) => acts.onSort(turned(acts.sort, name, event.shiftKey, ['', 'asc']))}
      >
        {text}
      </button>
      <span className="block text-2xs leading-[13px] text-ink3">
        {sorted ? `${ascending ? 'earliest' : 'latest'} first${of > 1 ? `, ${place + 1}` : ''}` : '\u00a0'}
      </span>
    </div>
  )
}

function targetOf(key: string, at: number, length: number): number | null {
  const to = {
    ArrowDown: at + 1,
    ArrowUp: at - 1,
    PageDown: at + 20,
    PageUp: at - 20,
    Home: 0,
    End: length - 1,
  }[key]
  return to === undefined ? null : Math.max(0, Math.min(length - 1, to))
}

type Moves = {
  selection: Selection
  onToggle: (number: string) => void
  onSelect: (numbers: string[]) => void
  onOpen: (reference: string) => void
  openLine: (id: string) => void
}

/** Moving over lines and selecting them by mouse and keyboard. */
function useMoving(
  line: { current: (at: number) => Line },
  length: number,
  holder: { current: HTMLDivElement | null },
  rows: { scrollToIndex: (at: number) => void },
  moves: Moves,
) {
  const anchor = useRef<number | null>(null)
  const goal = useRef<number | null>(null)
  const held = useRef(moves)
  useLayoutEffect(() => {
    held.current = moves
  })

  const numbersBetween = (a: number, b: number) => {
    const found: string[] = []
    for (let at = Math.min(a, b); at <= Math.max(a, b); at++) {
      const each = line.current(at)
      if (each.kind === 'run') found.push(String(each.run.number))
    }
    return found
  }
  /** A line that was not read or drawn yet is focused once it is. */
  const focus = () => {
    if (goal.current === null) return
    const found = holder.current?.querySelector<HTMLElement>(`[data-at="${goal.current}"][tabindex]`)
    if (found) {
      goal.current = null
      found.focus()
    }
  }
  const goTo = (at: number) => {
    goal.current = Math.max(0, Math.min(length - 1, at))
    rows.scrollToIndex(goal.current)
    focus()
  }
  const clicked = useCallback((number: string, event: MouseEvent) => {
    const at = Number((event.currentTarget as HTMLElement).dataset.at)
    if (event.shiftKey && anchor.current !== null) {
      held.current.onSelect(numbersBetween(anchor.current, at))
      window.getSelection()?.removeAllRanges()
    } else {
      anchor.current = at
      held.current.onToggle(number)
    }
  }, []) // eslint-disable-line react-hooks/exhaustive-deps

  /** Go where a key leads, with Shift selecting what lies between. */
  const move = (event: KeyboardEvent, at: number): boolean => {
    const to = targetOf(event.key, at, length)
    if (to === null) return false
    if (event.shiftKey) {
      anchor.current ??= at
      held.current.onSelect(numbersBetween(anchor.current, to))
    } else anchor.current = null
    goTo(to)
    return true
  }
  const select = (event: KeyboardEvent, at: number, found: Line): boolean => {
    if (event.key === ' ' && found.kind === 'run') {
      anchor.current = at
      held.current.onToggle(String(found.run.number))
      return true
    }
    if (event.key === 'a' && (event.ctrlKey || event.metaKey)) {
      held.current.onSelect(numbersBetween(0, Math.min(length, SELECTED_LIMIT) - 1))
      return true
    }
    return false
  }
  const opens = (event: KeyboardEvent, found: Line): boolean => {
    if (found.kind !== 'run' && found.kind !== 'group') return false
    const id = found.kind === 'run' ? found.run.reference : found.id
    const turns =
      (event.key === 'ArrowRight' && found.open === false) ||
      (event.key === 'ArrowLeft' && found.open === true)
    const enters = event.key === 'Enter' || (event.key === ' ' && found.kind === 'group')
    if (turns || (enters && found.kind === 'group')) held.current.openLine(id)
    else if (enters && found.kind === 'run') held.current.onOpen(found.run.reference)
    else return false
    return true
  }
  const handle = (event: KeyboardEvent<HTMLElement>, at: number) => {
    // Links and buttons inside a line keep their own keys, but for moving on.
    const inside = event.target !== event.currentTarget
    const found = line.current(at)
    if (move(event, at) || (!inside && (select(event, at, found) || opens(event, found))))
      event.preventDefault()
  }
  // Lines are drawn anew only when they change: what they call stays the same.
  const latest = useRef(handle)
  useLayoutEffect(() => {
    latest.current = handle
  })
  const keys = useCallback((event: KeyboardEvent<HTMLElement>, at: number) => latest.current(event, at), [])
  return { focus, keys, clicked }
}
