/** Writing names, values and lists of names as queries read them. */
const PLAIN = /^[^\s()[\]{},=!<>"'.:]+(\.[^\s()[\]{},=!<>"'.:]+)*$/
const KEYWORDS = new Set(['and', 'or', 'not', 'in', 'is', 'nan', 'like', 'within', 'has', 'used'])

/** A name or value, in quotes where it needs them. */
export const word = (text: string) =>
  PLAIN.test(text) && !KEYWORDS.has(text.toLowerCase()) ? text : `"${text.replaceAll('"', '""')}"`

/** The parts of a list; commas within quotes do not part. */
export const parts = (text: string | null): string[] =>
  ((text ?? '').match(/(?:[^,"']|"[^"]*"|'[^']*')+/g) ?? []).map((part) => part.trim()).filter(Boolean)

/** Join a query with one more test. */
export function both(query: string, test: string): string {
  if (!query.trim()) return test
  return /\bor\b/i.test(query) ? `(${query}) and ${test}` : `${query} and ${test}`
}

export type SortPart = { name: string; way: '' | 'asc' | 'desc' }

export const sortParts = (text: string): SortPart[] =>
  parts(text).map((part) => {
    const found = /^(.*):(asc|desc)$/.exec(part)
    return found ? { name: found[1] ?? '', way: found[2] as 'asc' | 'desc' } : { name: part, way: '' }
  })

const written = (all: SortPart[]) => all.map(({ name, way }) => (way ? `${name}:${way}` : name)).join(',')

/** The two ways in which a column is sorted, the first at the first click: better first, texts from A on. */
export type Ways = ['' | 'asc', 'asc' | 'desc']
export const waysOf = (numeric: boolean, lowerFirst: boolean): Ways =>
  !numeric ? ['asc', 'desc'] : ['', lowerFirst ? 'desc' : 'asc']

/** Sort by a name alone, or turn it round; `further` keeps what it is sorted by already and adds to it. */
export function turned(sort: string, name: string, further: boolean, [first, second]: Ways): string {
  const all = sortParts(sort)
  const at = all.findIndex((part) => part.name === name)
  const found = all[at]
  const next: SortPart = { name, way: found && found.way === first ? second : first }
  if (!further) return written([next])
  if (found) all[at] = next
  else all.push(next)
  return written(all.slice(0, 4))
}
