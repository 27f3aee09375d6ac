/** Lines of the table: a run, a run under an opened line, a group with its spread. */
import { memo, type KeyboardEvent, type MouseEvent, type ReactNode } from 'react'
import { Link, useParams } from 'react-router'
import type { Run } from '../../../api/client'
import type { GroupCell, GroupPage, RunGroup } from '../../../api/finding'
import { Trend } from '../../../charts/Trend'
import { Changing, Key, Status } from '../../../parts/Marks'
import { asNumber, moment, plain, plural, show } from '../../../parts/values'
import { cellOf, lineOf, NAME_WIDTH, REASON_WIDTH, ROW, STARTED_WIDTH, written, type Shape } from './shapes'

type LineProps = {
  at: number
  columns: Shape[]
  /** The columns in sight: from one to before another. */
  from: number
  to: number
  onKey: (event: KeyboardEvent<HTMLElement>, at: number) => void
}

const LINE =
  'absolute left-0 flex min-w-full items-center border-b border-line leading-7 [contain:layout_style]'
const STARTED = 'shrink-0 truncate px-2 text-xs text-ink2'
// A pixel lower than the line, whose border it would cover.
const FIRST = 'sticky left-0 z-[1] h-[27px] shrink-0 bg-inherit pr-2 pl-6'

const placed = (at: number) => ({ height: ROW, top: at * ROW })

function Opener({ open, what, onOpen }: { open: boolean | null; what: string; onOpen: () => void }) {
  if (open === null) return <span className="w-4 shrink-0" />
  return (
    <button
      className="w-4 shrink-0 text-ink2"
      aria-expanded={open}
      aria-label={`${open ? 'Close' : 'Open'} ${what}`}
      tabIndex={-1}
      onClick={(event) => {
        event.stopPropagation()
        onOpen()
      }}
    >
      {open ? '▾' : '▸'}
    </button>
  )
}

type RunProps = LineProps & {
  run: Run
  inner: boolean
  open: boolean | null
  /** The slot of its look, 0 for selected without one, null for not selected. */
  slot: number | null
  onToggle: (number: string, event: MouseEvent) => void
  onOpen: (id: string) => void
}

export const RunLine = memo(function RunLine(props: RunProps) {
  const { run, at, inner, open, columns, from, to, slot, onToggle, onOpen, onKey } = props
  const { project = '' } = useParams()
  const selected = slot !== null
  return (
    <div
      role="row"
      tabIndex={0}
      aria-selected={selected}
      aria-rowindex={at + 2}
      aria-level={inner ? 2 : 1}
      aria-expanded={open ?? undefined}
      data-at={at}
      className={`${LINE} ${selected ? 'bg-soft' : 'bg-surface hover:bg-bg'}`}
      style={placed(at)}
      onClick={(event) => onToggle(String(run.number), event)}
      onKeyDown={(event) => onKey(event, at)}
    >
      <div role="rowheader" className={FIRST} style={{ width: NAME_WIDTH }}>
        <span className="flex items-center whitespace-nowrap">
          <span className="w-[22px] shrink-0">{selected && <Key slot={slot} />}</span>
          {inner && <span className="mr-2 w-2 shrink-0 self-stretch border-r border-line2" aria-hidden />}
          <Opener
            open={open}
            what={`the ${plural(run.children, 'child', 'children')} of ${run.reference}`}
            onOpen={() => onOpen(run.reference)}
          />
          <Link
            to={`/${project}/e/${run.reference}`}
            className="strong hover:underline"
            onClick={(event) => event.stopPropagation()}
          >
            {run.number}
          </Link>
          <Name run={run} inner={inner} open={open} />
        </span>
      </div>
      <div
        role="gridcell"
        className={STARTED}
        style={{ width: STARTED_WIDTH }}
        title={run.reason ?? undefined}
      >
        <Status status={run.status} text={moment(run.started_at)} />
      </div>
      <InWindow shapes={columns} from={from} to={to}>
        {(column) => <Cell key={column.text} run={run} column={column} slot={slot ?? 0} />}
      </InWindow>
      {run.status === 'failed' && (
        <div
          role="gridcell"
          className="min-w-0 flex-1 truncate px-2 text-xs text-bad"
          style={{ width: REASON_WIDTH }}
        >
          {run.reason?.trim().split('\n').at(-1) ?? ''}
        </div>
      )}
    </div>
  )
})

function Name({ run, inner, open }: { run: Run; inner: boolean; open: boolean | null }) {
  return (
    <>
      <span className="ml-2 truncate text-xs text-ink2" title={run.name ?? undefined}>
        {run.name}
      </span>
      {open !== null && <span className="lab ml-2">{plural(run.children, 'child', 'children')}</span>}
      {open === null && !inner && run.parent && (
        <span className="lab ml-2 truncate" title={`under ${run.parent}`}>
          ↳ {run.parent.split('/')[1]}
        </span>
      )}
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
    </>
  )
}

/** The pinned columns and those in sight; what lies beside them is one empty cell. */
export function InWindow(props: {
  shapes: Shape[]
  from: number
  to: number
  children: (column: Shape, at: number) => ReactNode
}) {
  const { shapes, from, to, children } = props
  const pinned = shapes.filter((column) => column.pinned).length
  const first = Math.max(pinned, from)
  return (
    <>
      {shapes.slice(0, pinned).map((column, at) => children(column, at))}
      <Gap shapes={shapes} from={pinned} to={first} />
      {shapes.slice(first, to).map((column, at) => children(column, first + at))}
      <Gap shapes={shapes} from={Math.max(first, to)} to={shapes.length} />
    </>
  )
}

function Gap({ shapes, from, to }: { shapes: Shape[]; from: number; to: number }) {
  const width = shapes.slice(from, to).reduce((sum, column) => sum + column.width, 0)
  return width ? <span className="shrink-0" style={{ width }} aria-hidden /> : null
}

function place(column: Shape, more = '') {
  const pin = column.pinned ? 'sticky z-[1] h-[27px] bg-inherit' : ''
  return {
    className: `shrink-0 truncate px-2 ${column.numeric ? 'text-right' : ''} ${pin} ${more}`,
    style: { width: column.width, left: column.pinned ? column.left : undefined },
  }
}

function Cell({ run, column, slot }: { run: Run; column: Shape; slot: number }) {
  const value = cellOf(run, column)
  const number = asNumber(value)
  const text = written(column, value)
  const tone = value === undefined ? 'text-ink3' : number !== null && Number.isNaN(number) ? 'text-bad' : ''
  const body: ReactNode = column.scope === 'value' ? <Changing>{text}</Changing> : text
  const line = column.trend ? lineOf(run, column.name) : null
  if (!column.trend) {
    return (
      <div role="gridcell" {...place(column, tone)} title={show(value)}>
        {body}
      </div>
    )
  }
  return (
    <div role="gridcell" {...place(column, `text-right ${tone}`)} title={show(value)}>
      <span className="flex items-center justify-end gap-2">
        {line && (
          <Trend line={line} scale={column.trend} slot={slot} running={run.status === 'running'} width={92} />
        )}
        <span className="strong w-[60px]">{body}</span>
      </span>
    </div>
  )
}

type GroupProps = LineProps & {
  group: RunGroup
  page: GroupPage
  by: string
  open: boolean
  onOpen: (id: string) => void
}

export const GroupLine = memo(function GroupLine(props: GroupProps) {
  const { group, page, by, at, open, columns, from, to, onOpen, onKey } = props
  const title =
    by === 'replicates' ? group.last.reference.split('/')[1] : group.present ? show(group.value) : `no ${by}`
  const open_ = () => onOpen(group.query)
  return (
    <div
      role="row"
      tabIndex={0}
      aria-rowindex={at + 2}
      aria-level={1}
      aria-expanded={open}
      data-at={at}
      className={`${LINE} bg-surface hover:bg-bg`}
      style={placed(at)}
      onClick={open_}
      onKeyDown={(event) => onKey(event, at)}
    >
      <div role="rowheader" className={FIRST} style={{ width: NAME_WIDTH }}>
        <span className="flex items-center whitespace-nowrap">
          <span className="w-[22px] shrink-0" />
          <Opener open={open} what={`the ${plural(group.runs, 'run')} of ${title ?? ''}`} onOpen={open_} />
          <span
            className={`strong ${by === 'replicates' ? 'shrink-0' : 'truncate'}`}
            title={show(group.value)}
          >
            {title}
          </span>
          <span className="lab ml-2">
            ×{group.runs.toLocaleString('en')}
            {by === 'replicates' ? ' seeds' : ''}
          </span>
          {by === 'replicates' && <span className="ml-2 truncate text-xs text-ink2">{group.last.name}</span>}
        </span>
      </div>
      <div role="gridcell" className={STARTED} style={{ width: STARTED_WIDTH }}>
        last {moment(group.last.started_at)}
      </div>
      <InWindow shapes={columns} from={from} to={to}>
        {(column) => (
          <SpreadCell
            key={column.text}
            column={column}
            cell={cellFor(page, group, column)}
            runs={group.runs}
          />
        )}
      </InWindow>
    </div>
  )
})

/** A column that is still on its way has none. */
function cellFor(page: GroupPage, group: RunGroup, column: Shape): GroupCell | null | undefined {
  const at = page.columns.findIndex(
    (other) =>
      other.scope === column.scope &&
      other.name === column.name &&
      (other.aggregate ?? null) === (column.aggregate ?? null),
  )
  return at < 0 ? undefined : (group.cells[at] ?? null)
}

/** A shared value, or mean ± standard deviation; where not all runs have a number, how many do. */
function SpreadCell(props: { column: Shape; cell: GroupCell | null | undefined; runs: number }) {
  const { column, cell, runs } = props
  if (!cell)
    return (
      <div role="gridcell" {...place(column, 'text-ink3')}>
        {cell === null ? '–' : '…'}
      </div>
    )
  if (cell.is_shared) {
    return (
      <div role="gridcell" {...place(column)} title={show(cell.shared)}>
        {written(column, plain(cell.shared))}
      </div>
    )
  }
  const { spread } = cell
  if (!spread)
    return (
      <div role="gridcell" {...place(column, 'text-xs text-ink3')}>
        {cell.several} kinds
      </div>
    )
  // The mean of settings says nothing; where they lie does.
  if (column.scope === 'param') {
    return (
      <div
        role="gridcell"
        {...place(column, 'text-ink2')}
        title={`from ${show(spread.low)} to ${show(spread.high)}`}
      >
        {show(spread.low)}…{show(spread.high)}
      </div>
    )
  }
  const deviation = spread.deviation
  const of = spread.runs < runs ? `, ${spread.runs} of ${runs} have one` : ''
  const decimals = column.decimals
  return (
    <div
      role="gridcell"
      {...place(column)}
      title={`mean ${show(spread.mean)}, from ${show(spread.low)} to ${show(spread.high)}${of}`}
    >
      <span className={column.goal ? 'strong' : ''}>{show(spread.mean, decimals)}</span>
      <span className="ml-1 text-xs text-ink3">
        {deviation === null ? '' : `±${Number(deviation.toPrecision(2))}`}
        {of && ` (${spread.runs})`}
      </span>
    </div>
  )
}

export function PlainLine({ at, text }: { at: number; text: string }) {
  return (
    <div role="row" className={`${LINE} bg-surface`} style={placed(at)} data-at={at} aria-rowindex={at + 2}>
      <span role="gridcell" className="pl-14 text-xs text-ink3">
        {text}
      </span>
    </div>
  )
}
