/** Heads of a list that is sorted where it is shown; the address holds by what (`by=runs` or `by=runs:asc`). */
import { useAddress } from './selection'

export type By<T> = Record<string, (row: T) => string | number | null>

const read = (by: string | null) => ({
  name: by?.replace(/:(asc|desc)$/, '') ?? '',
  ascending: by?.endsWith(':asc') ?? false,
})

/** Rows in the order of the address; what lacks a value comes last. */
export function sorted<T>(rows: T[], by: By<T>, asked: string | null): T[] {
  const { name, ascending } = read(asked)
  const of = by[name]
  if (!of) return rows
  const way = ascending ? 1 : -1
  return [...rows].sort((left, right) => {
    const [a, b] = [of(left), of(right)]
    if (a === null || b === null) return Number(a === null) - Number(b === null)
    return a < b ? -way : a > b ? way : 0
  })
}

export function SortHead({
  name,
  right,
  className = '',
}: {
  name: string
  right?: boolean
  className?: string
}) {
  const { params, change } = useAddress()
  const by = read(params.get('by'))
  const is = by.name === name
  return (
    <th
      scope="col"
      aria-sort={is ? (by.ascending ? 'ascending' : 'descending') : undefined}
      className={`${right ? 'text-right' : ''} ${className}`}
    >
      <button
        className={is ? 'strong text-ink' : 'hover:underline'}
        onClick={() => change('by', is && !by.ascending ? `${name}:asc` : name)}
      >
        {name}
        {is ? (by.ascending ? ' ↑' : ' ↓') : ''}
      </button>
    </th>
  )
}
