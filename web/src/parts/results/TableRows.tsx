/** A table row by row: sorted, filtered, only what was predicted wrong; or two tables joined by their row key. */
import { useState } from 'react'
import { useJoinedRows, useRows } from '../../api/results'
import { DataTable, type Column as DrawnColumn } from '../DataTable'
import { plural, show, plain } from '../values'

const PAGE = 100

type Asked = { where: string; find: string; sort: string; offset: number }
const START: Asked = { where: '', find: '', sort: '', offset: 0 }
type Column = { name: string; type: string }
type Sorted = { name: string; way: 'ascending' | 'descending' }

const conditions = (text: string) =>
  text
    .split(/\s+and\s+/i)
    .map((part) => part.trim())
    .filter(Boolean)

export function TableRows({ project, of }: { project: string; of: string }) {
  const [asked, setAsked] = useState(START)
  const [wrong, setWrong] = useState(false)
  const { data, error } = useRows(
    project,
    of,
    {
      where: conditions(asked.where),
      find: asked.find,
      sort: asked.sort,
      wrong,
      offset: asked.offset,
      limit: PAGE,
    },
    true,
  )
  return (
    <div>
      <Asking asked={asked} onAsk={setAsked}>
        {data?.judged && (
          <label className="flex items-center gap-1">
            <input
              type="checkbox"
              checked={wrong}
              onChange={(event) => {
                setWrong(event.target.checked)
                setAsked({ ...asked, offset: 0 })
              }}
            />
            {data.columns.some((column) => column.name === 'error')
              ? 'largest errors first'
              : `only the ${plural(data.wrong ?? 0, 'wrong one')}`}
          </label>
        )}
      </Asking>
      <Answered data={data} error={error} asked={asked} onAsk={setAsked} />
    </div>
  )
}

/** Outcomes have a sign each, so that they are told apart without colour. */
const SIGNS: Record<string, string> = {
  'newly wrong': '↓',
  'newly right': '↑',
  'both wrong': '××',
  'both right': '✓✓',
  farther: '↓',
  nearer: '↑',
  'as near': '=',
  changed: '≠',
  same: '=',
  'only left': '−',
  'only right': '+',
}
const TONES: Record<string, string> = {
  'newly wrong': 'text-bad',
  farther: 'text-bad',
  'newly right': 'text-accent',
  nearer: 'text-accent',
}

export function JoinedTable(props: { project: string; left: string; right: string; names: string[] }) {
  const { project, left, right, names } = props
  const [asked, setAsked] = useState(START)
  const [outcome, setOutcome] = useState<string | null>(null)
  const { data, error } = useJoinedRows(
    project,
    left,
    right,
    {
      where: conditions(asked.where),
      find: asked.find,
      sort: asked.sort,
      offset: asked.offset,
      limit: PAGE,
      outcome: outcome === null ? [] : [outcome],
      key: null,
    },
    true,
  )
  return (
    <div>
      <p className="lab">
        {left} is left ({names[0]}), {right} is right ({names[1]}){data && `; joined by ${data.key}`}
      </p>
      {data && (
        <p className="flex flex-wrap gap-1.5 py-1 text-xs" role="group" aria-label="Outcomes">
          {Object.entries(data.counts).map(([word, count]) => (
            <button
              key={word}
              className={`btn leading-[18px] ${outcome === word ? 'bg-soft' : ''}`}
              aria-pressed={outcome === word}
              onClick={() => {
                setOutcome(outcome === word ? null : word)
                setAsked({ ...asked, offset: 0 })
              }}
            >
              <span className={TONES[word] ?? ''}>{SIGNS[word]}</span> {count.toLocaleString('en')} {word}
            </button>
          ))}
        </p>
      )}
      <Asking asked={asked} onAsk={setAsked} />
      <Answered data={data} error={error} asked={asked} onAsk={setAsked} />
    </div>
  )
}

function Asking(props: { asked: Asked; onAsk: (asked: Asked) => void; children?: React.ReactNode }) {
  const { asked, onAsk } = props
  const [where, setWhere] = useState(asked.where)
  const [find, setFind] = useState(asked.find)
  return (
    <form
      className="flex flex-wrap items-center gap-x-3 gap-y-1 py-1 text-xs text-ink2"
      onSubmit={(event) => {
        event.preventDefault()
        onAsk({ ...asked, where, find, offset: 0 })
      }}
    >
      <input
        aria-label="Conditions on rows"
        className="field mono w-56 py-0 text-xs"
        placeholder="score > 0.9 and truth = 1"
        value={where}
        spellCheck={false}
        onChange={(event) => setWhere(event.target.value)}
      />
      <input
        aria-label="Find in rows"
        className="field w-32 py-0 text-xs"
        placeholder="find"
        value={find}
        spellCheck={false}
        onChange={(event) => setFind(event.target.value)}
      />
      <button className="btn leading-[18px]">Filter</button>
      {props.children}
    </form>
  )
}

type Answer = { columns: Column[]; rows: unknown[][]; total: number; of: number }

/** The rows that came, or why none did. */
function Answered(props: {
  data: Answer | undefined
  error: Error | null
  asked: Asked
  onAsk: (asked: Asked) => void
}) {
  const { data, error, asked, onAsk } = props
  return (
    <>
      {error && (
        <p className="py-1 text-xs text-bad" role="alert">
          {error.message}
        </p>
      )}
      {data && <Shown {...data} asked={asked} onAsk={onAsk} />}
      {!data && !error && <p className="lab">Reading …</p>}
    </>
  )
}

function Shown(props: Answer & { asked: Asked; onAsk: (asked: Asked) => void }) {
  const { columns, rows, total, of, asked, onAsk } = props
  const sorted: Sorted = asked.sort.endsWith(':desc')
    ? { name: asked.sort.slice(0, -5), way: 'descending' }
    : { name: asked.sort, way: 'ascending' }
  const sortBy = (column: string) =>
    onAsk({
      ...asked,
      offset: 0,
      sort: column !== sorted.name ? column : sorted.way === 'ascending' ? `${column}:desc` : '',
    })
  return (
    <>
      <div tabIndex={0} className="max-h-[360px] overflow-auto border-b border-line">
        <DataTable
          label="Rows"
          rows={rows}
          keyOf={(_, at) => asked.offset + at}
          columns={columns.map((column, at) => cellsOf(column, at, sorted, sortBy))}
          head="sticky top-0 z-10 bg-surface"
          line="h-6 border-b border-line"
        />
      </div>
      <p className="flex items-center gap-3 py-1 text-xs">
        <span className="lab">
          {total < of ? `${total.toLocaleString('en')} of ${plural(of, 'row')} fit` : plural(of, 'row')}
          {total > PAGE &&
            `; ${(asked.offset + 1).toLocaleString('en')} to ${(asked.offset + rows.length).toLocaleString('en')} shown`}
        </span>
        {asked.offset > 0 && (
          <button
            className="link"
            onClick={() => onAsk({ ...asked, offset: Math.max(0, asked.offset - PAGE) })}
          >
            previous {PAGE}
          </button>
        )}
        {asked.offset + rows.length < total && (
          <button className="link" onClick={() => onAsk({ ...asked, offset: asked.offset + PAGE })}>
            next {PAGE}
          </button>
        )}
      </p>
    </>
  )
}

/** How one column of the table is headed, by which the table is sorted, and drawn. */
function cellsOf(
  { name, type }: Column,
  at: number,
  sorted: Sorted,
  sortBy: (column: string) => void,
): DrawnColumn<unknown[]> {
  const way = name && name === sorted.name ? sorted.way : 'none'
  const isOutcome = (row: unknown[]) => name === 'outcome' && typeof row[at] === 'string'
  return {
    name,
    right: type === 'number',
    sort: way,
    head: (
      <button className="strong hover:underline" onClick={() => sortBy(name)}>
        {name}
        {way === 'none' ? '' : way === 'ascending' ? ' ↑' : ' ↓'}
      </button>
    ),
    headClass: 'border-b border-line2 pr-4 whitespace-nowrap',
    className: (row) =>
      isOutcome(row)
        ? `pr-4 whitespace-nowrap ${TONES[String(row[at])] ?? 'text-ink2'}`
        : `max-w-72 truncate pr-4 ${plain(row[at]) === null ? 'text-ink3' : ''}`,
    title: (row) => {
      const value = plain(row[at])
      return typeof value === 'string' && !isOutcome(row) ? value : undefined
    },
    cell: (row) => {
      if (isOutcome(row)) return `${SIGNS[String(row[at])]} ${String(row[at])}`
      return plain(row[at]) === null ? '–' : show(row[at])
    },
  }
}
