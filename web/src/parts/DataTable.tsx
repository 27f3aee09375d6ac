/** A table of rows: one way to draw headings, lines, and the row that is chosen. */
import type { ReactNode } from 'react'

export type Column<Row> = {
  /** The heading, which also tells columns apart. */
  name: string
  /** What the heading shows where that is more than its name; null: only screen readers read it. */
  head?: ReactNode
  headClass?: string
  /** How rows are sorted by the column; undefined where that is not asked. */
  sort?: 'ascending' | 'descending' | 'none'
  /** Whether the cell names the row. */
  heads?: boolean
  /** Whether heading and cells stand to the right, as numbers do. */
  right?: boolean
  className?: string | ((row: Row) => string)
  title?: (row: Row) => string | undefined
  cell: (row: Row) => ReactNode
}

type Props<Row> = {
  label?: string
  rows: readonly Row[]
  keyOf: (row: Row, at: number) => string | number
  /** Columns that are false are left out. */
  columns: readonly (Column<Row> | false)[]
  /** Headings: none, a row in this style, or a row of one's own. */
  head?: string | ReactNode
  className?: string
  line?: string | ((row: Row) => string)
  bodyClass?: string
}

const joined = (...classes: (string | false | undefined)[]) => classes.filter(Boolean).join(' ') || undefined

export function DataTable<Row>({
  label,
  rows,
  keyOf,
  columns,
  head,
  className = 'w-full text-xs',
  line = 'h-7 border-b border-line',
  bodyClass,
}: Props<Row>) {
  const shown = columns.filter((column) => column !== false)
  return (
    <table className={className} aria-label={label}>
      {typeof head === 'string' ? <Headings columns={shown} line={head} /> : head}
      <tbody className={bodyClass}>
        {rows.map((row, at) => (
          <tr key={keyOf(row, at)} className={typeof line === 'string' ? line : line(row)}>
            {shown.map((column) => (
              <Cell key={column.name} column={column} row={row} />
            ))}
          </tr>
        ))}
      </tbody>
    </table>
  )
}

function Headings<Row>({ columns, line }: { columns: Column<Row>[]; line: string }) {
  return (
    <thead className={line === 'sr-only' ? line : undefined}>
      <tr className={line === 'sr-only' ? undefined : line}>
        {columns.map(({ name, head, headClass, right, sort }) => (
          <th key={name} scope="col" aria-sort={sort} className={joined(right && 'text-right', headClass)}>
            {head === null ? <span className="sr-only">{name}</span> : (head ?? name)}
          </th>
        ))}
      </tr>
    </thead>
  )
}

function Cell<Row>({ column, row }: { column: Column<Row>; row: Row }) {
  const { heads, right, className, title, cell } = column
  const shared = {
    className: joined(right && 'text-right', typeof className === 'function' ? className(row) : className),
    title: title?.(row),
  }
  if (heads)
    return (
      <th scope="row" {...shared}>
        {cell(row)}
      </th>
    )
  return <td {...shared}>{cell(row)}</td>
}
