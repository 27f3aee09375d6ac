/** The head of a column: sorts at a click, is dragged to its place and width, and has a menu for all of it by keyboard. */
import { Menu, MenuButton, MenuItem, MenuItems } from '@headlessui/react'
import { memo, useRef, type DragEvent, type PointerEvent } from 'react'
import { arrow } from '../../../parts/values'
import { sortParts, turned, waysOf } from '../words'
import { label, type Shape } from './shapes'

export type ColumnActs = {
  sort: string
  onSort: (sort: string) => void
  onHide: (text: string) => void
  onPin: (text: string) => void
  onMove: (text: string, by: number) => void
  onPlace: (text: string, before: string) => void
  onWidth: (text: string, width: number) => void
  onGroup: (text: string) => void
  onFilter: (text: string) => void
}

const KIND = { param: '', value: '', label: 'label', field: '' }

/** How a column is sorted: its place among the keys and its way. */
export function sortedBy(sort: string, name: string, lowerFirst: boolean) {
  const parts = sortParts(sort)
  const place = parts.findIndex((part) => part.name === name)
  const way = parts[place]?.way
  const ascending = way === 'asc' || (way === '' && lowerFirst)
  return { place, of: parts.length, ascending }
}

const said = (ascending: boolean, place: number, of: number) =>
  `${ascending ? 'lowest first' : 'highest first'}${of > 1 ? `, ${place + 1}` : ''}`

type HeadProps = { column: Shape; at: number; acts: ColumnActs }

/** Drawn anew only when its column or the arrangement changes, not when the table is scrolled. */
export const Head = memo(function Head({ column, at, acts }: HeadProps) {
  const name = column.text
  const lowerFirst = column.goal?.direction === 'lower' && !column.aggregate
  const { place, of, ascending } = sortedBy(acts.sort, name, lowerFirst)
  const sorted = place >= 0
  const ways = waysOf(column.numeric, lowerFirst)
  const note = sorted ? said(ascending, place, of) : (column.goal?.unit ?? KIND[column.scope])
  const drop = (event: DragEvent) => {
    const moved = event.dataTransfer.getData('text/column')
    if (moved && moved !== name) acts.onPlace(moved, name)
    event.preventDefault()
  }
  return (
    <div
      role="columnheader"
      aria-colindex={at + 3}
      aria-sort={place === 0 ? (ascending ? 'ascending' : 'descending') : undefined}
      draggable
      onDragStart={(event) => event.dataTransfer.setData('text/column', name)}
      onDragOver={(event) => event.preventDefault()}
      onDrop={drop}
      className={`group/head relative shrink-0 px-2 ${column.numeric ? 'text-right' : ''} ${column.pinned ? 'sticky z-[6] bg-surface' : ''}`}
      style={{ width: column.width, left: column.pinned ? column.left : undefined }}
    >
      <span className={`flex items-center ${column.numeric ? 'justify-end' : ''}`}>
        <button
          className={`truncate text-xs ${sorted ? 'strong text-ink' : 'text-ink2'}`}
          title={`${label(column)}: click to sort, with Shift as a further key`}
          onClick={(event) => acts.onSort(turned(acts.sort, name, event.shiftKey, ways))}
        >
          {label(column)}
          {column.aggregate ? '' : arrow(column.goal)}
        </button>
        <ColumnMenu column={column} acts={acts} />
      </span>
      <span className="block truncate text-2xs leading-[13px] text-ink3">{note || '\u00a0'}</span>
      <Edge width={column.width} onWidth={(width) => acts.onWidth(name, width)} />
    </div>
  )
})

function ColumnMenu({ column, acts }: { column: Shape; acts: ColumnActs }) {
  const name = column.text
  const ways = waysOf(column.numeric, column.goal?.direction === 'lower' && !column.aggregate)
  const entries: [string, () => void][] = [
    ['Sort by this', () => acts.onSort(turned(acts.sort, name, false, ways))],
    ['Sort by this as well', () => acts.onSort(turned(acts.sort, name, true, ways))],
    ['Filter …', () => acts.onFilter(name)],
    ...(column.aggregate ? [] : [['Group by this', () => acts.onGroup(name)] as [string, () => void]]),
    [column.pinned ? 'Unpin' : 'Pin to the left', () => acts.onPin(name)],
    ['Move left', () => acts.onMove(name, -1)],
    ['Move right', () => acts.onMove(name, 1)],
    ['Wider', () => acts.onWidth(name, Math.round(column.width * 1.4))],
    ['Narrower', () => acts.onWidth(name, Math.max(48, Math.round(column.width / 1.4)))],
    ['Hide', () => acts.onHide(name)],
  ]
  return (
    <Menu>
      <MenuButton
        aria-label={`Column ${label(column)}`}
        className="ml-0.5 shrink-0 text-2xs text-ink3 opacity-0 group-hover/head:opacity-100 focus:opacity-100 data-open:opacity-100"
      >
        ▾
      </MenuButton>
      <MenuItems
        anchor="bottom start"
        className="z-20 mt-1 rounded-[3px] border border-line2 bg-surface py-1 text-xs shadow-md focus:outline-none"
      >
        {entries.map(([text, act]) => (
          <MenuItem key={text}>
            <button className="block w-full px-3 py-1 text-left data-focus:bg-soft" onClick={act}>
              {text}
            </button>
          </MenuItem>
        ))}
      </MenuItems>
    </Menu>
  )
}

/** The right edge of a head, to be dragged. */
function Edge({ width, onWidth }: { width: number; onWidth: (width: number) => void }) {
  const from = useRef<{ x: number; width: number } | null>(null)
  const down = (event: PointerEvent<HTMLSpanElement>) => {
    from.current = { x: event.clientX, width }
    event.currentTarget.setPointerCapture(event.pointerId)
    event.preventDefault()
  }
  const up = (event: PointerEvent<HTMLSpanElement>) => {
    const began = from.current
    from.current = null
    if (began && event.clientX !== began.x) {
      onWidth(Math.max(48, Math.min(600, Math.round(began.width + event.clientX - began.x))))
    }
  }
  return (
    <span
      aria-hidden
      draggable
      onDragStart={(event) => {
        event.preventDefault()
        event.stopPropagation()
      }}
      onPointerDown={down}
      onPointerUp={up}
      className="absolute top-1 right-0 bottom-1 w-[5px] cursor-col-resize border-r border-transparent group-hover/head:border-line2"
    />
  )
}
