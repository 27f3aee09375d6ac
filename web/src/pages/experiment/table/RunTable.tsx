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
import type { Asked } from '../../../api/finding'
import { SELECTED_LIMIT, type Selection } from '../../../parts/selection'
import type { Column } from '../columns'
import { turned } from '../words'
import { Head, sortedBy, type ColumnActs } from './Head'
import { useLines, type Line, type Span } from './lines'
import { GroupLine, PlainLine, RunLine } from './Rows'
import { NAME_WIDTH, shapesOf } from './shapes'

const ROW = 28

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
  const [span, setSpan] = useState<Span>({ first: 0, last: 40 })
  const { length, lineAt, grouped, error } = useLines(place, asked, group, page, span, open, total)
  const shapes = useMemo(
    () => shapesOf(columns, page, grouped, pins, widths),
    [columns, page, grouped, pins, widths],
  )
  const rows = useVirtualizer({
    count: length,
    getScrollElement: () => holder.current,
    estimateSize: () => ROW,
    overscan: 16,
  })
  const items = rows.getVirtualItems()
  const first = items[0]?.index ?? 0
  const last = items.at(-1)?.index ?? 0
  useEffect(() => setSpan({ first, last }), [first, last])
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

  if (error)
    return (
      <p role="alert" className="px-6 py-6 text-bad">
        {error.message}
      </p>
    )
  if (length === 0) return <p className="px-6 py-6 text-ink2">No run fits this question.</p>
  const before = items[0]?.start ?? 0
  const after = rows.getTotalSize() - (items.at(-1)?.end ?? 0)
  return (
    <div
      ref={holder}
      className="min-h-[300px] flex-1 overflow-auto"
      style={{ maxHeight: 'calc(100vh - 120px)' }}
    >
      <table
        className="w-full table-fixed text-sm"
        role="treegrid"
        aria-rowcount={length + 1}
        aria-multiselectable
        aria-label="Runs"
      >
        <colgroup>
          <col style={{ width: NAME_WIDTH }} />
          <col style={{ width: 132 }} />
          {shapes.map((column) => (
            <col key={column.text} style={{ width: column.width }} />
          ))}
          <col />
        </colgroup>
        <thead className="sticky top-0 z-[5] bg-surface">
          <tr className="h-[34px] border-b border-line2" aria-rowindex={1}>
            <FieldHead name="number" text={group === null ? 'Run' : 'Group'} acts={acts} sticky />
            <FieldHead name="started" text="Started" acts={acts} />
            {shapes.map((column) => (
              <Head key={column.text} column={column} acts={acts} />
            ))}
            <td />
          </tr>
        </thead>
        <tbody>
          {before > 0 && <tr style={{ height: before }} aria-hidden />}
          {items.map((item) => {
            const found = lineAt(item.index)
            const common = { at: item.index, columns: shapes, onKey: keys }
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
            const text = found.kind === 'more' ? found.text : '…'
            return <PlainLine key={found.id} at={item.index} span={shapes.length + 3} text={text} />
          })}
          {after > 0 && <tr style={{ height: after }} aria-hidden />}
        </tbody>
      </table>
    </div>
  )
}

function FieldHead(props: { name: string; text: string; acts: ColumnActs; sticky?: boolean }) {
  const { name, text, acts, sticky } = props
  const { place, of, ascending } = sortedBy(acts.sort, name, false)
  const sorted = place >= 0
  return (
    <th
      scope="col"
      aria-sort={place === 0 ? (ascending ? 'ascending' : 'descending') : undefined}
      className={`px-2 align-bottom ${sticky ? 'sticky left-0 z-[6] bg-surface pl-6' : ''}`}
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
    </th>
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
  const keys = (event: KeyboardEvent<HTMLTableRowElement>, at: number) => {
    // Links and buttons inside a line keep their own keys, but for moving on.
    const inside = event.target !== event.currentTarget
    const found = line.current(at)
    if (move(event, at) || (!inside && (select(event, at, found) || opens(event, found))))
      event.preventDefault()
  }
  return { focus, keys, clicked }
}
