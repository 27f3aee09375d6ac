/** The run table: full width, the name column stays put, thin trends in metric cells. */
import { useVirtualizer } from '@tanstack/react-virtual'
import { memo, useMemo, useRef, type KeyboardEvent, type ReactNode } from 'react'
import { Link, useParams } from 'react-router'
import type { Run, RunPage } from '../../api/client'
import { scaleOf, Trend, type TrendScale } from '../../charts/Trend'
import { Changing, Key, Status } from '../../parts/Marks'
import type { Selection } from '../../parts/selection'
import { arrow, asNumber, decimalsOf, moment, show } from '../../parts/values'
import { columnsOf, type Column } from './columns'

type Shape = Column & {
  numeric: boolean
  decimals: number
  trend: TrendScale | null
  width: number
  leads: boolean
}

const cellOf = (run: Run, column: Column): unknown =>
  column.scope === 'value' ? run.values[column.name] : run.params[column.name]

function shapes(page: RunPage): Shape[] {
  const { columns } = columnsOf(page)
  const first = columns.find((column) => column.goal)
  return columns.map((column) => {
    const cells = page.rows.map((run) => cellOf(run, column)).filter((cell) => cell !== undefined)
    const numeric = cells.length > 0 && cells.every((cell) => asNumber(cell) !== null)
    const leads = column === first
    const lines = leads ? page.rows.flatMap((run) => lineOf(run, column.name) ?? []) : []
    const best = page.rows
      .map((run) => asNumber(cellOf(run, column)))
      .filter((value) => value !== null && isFinite(value))
    const leader = best.length
      ? column.goal?.direction === 'lower'
        ? Math.min(...(best as number[]))
        : Math.max(...(best as number[]))
      : null
    const trend = scaleOf(lines, leader)
    const longest = Math.max(column.name.length + 2, ...cells.map((cell) => show(cell).length))
    const width = trend
      ? 178
      : numeric
        ? Math.max(72, Math.min(130, column.name.length * 7 + 26))
        : Math.min(190, longest * 7 + 20)
    return { ...column, numeric, decimals: decimalsOf(cells), trend, width, leads }
  })
}

function lineOf(run: Run, name: string) {
  const metric = run.metrics[name]
  return metric?.line_steps?.length ? { steps: metric.line_steps, values: metric.line_values ?? [] } : null
}

type Props = {
  page: RunPage
  selection: Selection
  sort: string
  onSort: (key: string) => void
  onToggle: (number: string) => void
  onOpen: (name: string) => void
}

const ROW = 28

export function RunTable({ page, selection, sort, onSort, onToggle, onOpen }: Props) {
  const columns = useMemo(() => shapes(page), [page])
  const holder = useRef<HTMLDivElement>(null)
  const rows = useVirtualizer({
    count: page.rows.length,
    getScrollElement: () => holder.current,
    estimateSize: () => ROW,
    overscan: 12,
  })
  const move = (event: KeyboardEvent<HTMLTableRowElement>, run: Run) => {
    const row = event.currentTarget
    const next =
      event.key === 'ArrowDown'
        ? row.nextElementSibling
        : event.key === 'ArrowUp'
          ? row.previousElementSibling
          : null
    if (next instanceof HTMLElement) next.focus()
    else if (event.key === ' ') onToggle(String(run.number))
    else if (event.key === 'Enter') onOpen(run.reference)
    else return
    event.preventDefault()
  }
  const items = rows.getVirtualItems()
  const before = items[0]?.start ?? 0
  const after = rows.getTotalSize() - (items.at(-1)?.end ?? 0)
  const sortedBy = sort.split(',')[0]?.replace(/:(asc|desc)$/, '')
  if (page.rows.length === 0) return <p className="px-6 py-6 text-ink2">No run fits this condition.</p>
  return (
    <div
      ref={holder}
      className="min-h-[300px] flex-1 overflow-auto"
      style={{ maxHeight: 'calc(100vh - 120px)' }}
    >
      <table className="w-full table-fixed text-sm" aria-rowcount={page.rows.length} aria-label="Runs">
        <colgroup>
          <col style={{ width: 210 }} />
          <col style={{ width: 132 }} />
          {columns.map((column) => (
            <col key={`${column.scope}:${column.name}`} style={{ width: column.width }} />
          ))}
          <col />
        </colgroup>
        <thead className="sticky top-0 z-[5] bg-surface">
          <tr className="h-[34px] border-b border-line2">
            <Head name="number" label="Run" sortedBy={sortedBy} sort={sort} onSort={onSort} sticky />
            <Head name="started" label="Started" sortedBy={sortedBy} sort={sort} onSort={onSort} />
            {columns.map((column) => (
              <Head
                key={`${column.scope}:${column.name}`}
                name={column.name}
                label={`${column.name}${arrow(column.goal)}`}
                note={column.goal?.unit ?? undefined}
                sortedBy={sortedBy}
                sort={sort}
                onSort={onSort}
                right={column.numeric}
              />
            ))}
            <td />
          </tr>
        </thead>
        <tbody>
          {before > 0 && <tr style={{ height: before }} aria-hidden />}
          {items.map((item) => {
            const run = page.rows[item.index]
            return run ? (
              <Row
                key={run.id}
                run={run}
                index={item.index}
                columns={columns}
                slot={selection.get(String(run.number)) ?? 0}
                onToggle={onToggle}
                onKey={move}
              />
            ) : null
          })}
          {after > 0 && <tr style={{ height: after }} aria-hidden />}
        </tbody>
      </table>
    </div>
  )
}

function Head(props: {
  name: string
  label: string
  note?: string
  sortedBy: string | undefined
  sort: string
  onSort: (key: string) => void
  right?: boolean
  sticky?: boolean
}) {
  const { name, label, note, sortedBy, sort, onSort, right, sticky } = props
  const sorted = sortedBy === name
  const turned = sort.endsWith(':asc') ? `${name}:desc` : sort.endsWith(':desc') ? name : `${name}:asc`
  const state = sorted ? (sort.endsWith(':asc') ? 'ascending' : 'descending') : undefined
  return (
    <th
      scope="col"
      aria-sort={state}
      className={`px-2 align-bottom ${right ? 'text-right' : ''} ${sticky ? 'sticky left-0 z-[6] bg-surface pl-6' : ''}`}
    >
      <button
        className={`max-w-full truncate text-xs ${sorted ? 'strong text-ink' : 'text-ink2'}`}
        title={label}
        onClick={() => onSort(sorted ? turned : name)}
      >
        {label}
      </button>
      <span className="block text-2xs leading-[13px] text-ink3">
        {sorted ? (state === 'ascending' ? 'lowest first' : 'sorted') : (note ?? '\u00a0')}
      </span>
    </th>
  )
}

type RowProps = {
  run: Run
  index: number
  columns: Shape[]
  slot: number
  onToggle: (number: string) => void
  onKey: (event: KeyboardEvent<HTMLTableRowElement>, run: Run) => void
}

const Row = memo(function Row({ run, index, columns, slot, onToggle, onKey }: RowProps) {
  const { project = '' } = useParams()
  return (
    <tr
      tabIndex={0}
      aria-selected={slot > 0}
      aria-rowindex={index + 1}
      className={`h-7 border-b border-line ${slot ? 'bg-soft' : 'bg-surface hover:bg-bg'}`}
      onClick={() => onToggle(String(run.number))}
      onKeyDown={(event) => onKey(event, run)}
    >
      <th scope="row" className="sticky left-0 z-[1] bg-inherit pr-2 pl-6">
        <span className="flex items-center whitespace-nowrap">
          <span className="w-[26px]">{slot > 0 && <Key slot={slot} />}</span>
          <Link
            to={`/${project}/e/${run.reference}`}
            className="strong hover:underline"
            onClick={(event) => event.stopPropagation()}
          >
            {run.number}
          </Link>
          <span className="ml-2 truncate text-xs text-ink2" title={run.name ?? undefined}>
            {run.name}
          </span>
          {run.imported_from && (
            <span className="lab ml-2" title={`imported from ${run.imported_from}`}>
              imported
            </span>
          )}
          {run.problems.length > 0 && (
            <span className="ml-1 text-bad" title={run.problems.map((problem) => problem.text).join('\n')}>
              !<span className="sr-only">has problems</span>
            </span>
          )}
        </span>
      </th>
      <td className="truncate px-2 text-xs text-ink2" title={run.reason ?? undefined}>
        <Status status={run.status} text={moment(run.started_at)} />
      </td>
      {columns.map((column) => (
        <Cell key={`${column.scope}:${column.name}`} run={run} column={column} slot={slot} />
      ))}
      <td className="truncate px-2 text-xs text-bad">
        {run.status === 'failed' ? lastLine(run.reason) : ''}
      </td>
    </tr>
  )
})

const lastLine = (reason: string | null) => reason?.trim().split('\n').at(-1) ?? ''

function Cell({ run, column, slot }: { run: Run; column: Shape; slot: number }) {
  const value = cellOf(run, column)
  const number = asNumber(value)
  const text = show(value, column.numeric && column.scope === 'value' ? column.decimals : undefined)
  const tone = value === undefined ? 'text-ink3' : number !== null && Number.isNaN(number) ? 'text-bad' : ''
  const body: ReactNode = column.scope === 'value' ? <Changing>{text}</Changing> : text
  const line = column.trend ? lineOf(run, column.name) : null
  if (!column.trend) {
    return (
      <td className={`truncate px-2 ${column.numeric ? 'text-right' : ''} ${tone}`} title={show(value)}>
        {body}
      </td>
    )
  }
  return (
    <td className={`px-2 text-right ${tone}`} title={show(value)}>
      <span className="flex items-center justify-end gap-2">
        {line && (
          <Trend line={line} scale={column.trend} slot={slot} running={run.status === 'running'} width={92} />
        )}
        <span className="strong w-[60px]">{body}</span>
      </span>
    </td>
  )
}
