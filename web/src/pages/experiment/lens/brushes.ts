/** Brushes on axes and the text of the query are one: a stretch is `depth in 4..8`, chosen names `learner in {a, b}`. */
import { both, word } from '../words'

export type Brush = { low: number; high: number } | { names: string[] }

/** The parts that all must hold, where a query is nothing but those; else the whole as one part. */
export function conjuncts(query: string): string[] {
  const found: string[] = []
  let depth = 0
  let quote = ''
  let from = 0
  for (let at = 0; at < query.length; at++) {
    const sign = query[at] ?? ''
    if (quote) quote = sign === quote ? '' : quote
    else if (sign === '"' || sign === "'") quote = sign
    else if ('({['.includes(sign)) depth++
    else if (')}]'.includes(sign)) depth--
    else if (depth === 0 && /^\s+or\s/i.test(query.slice(at))) return [query.trim()]
    else if (depth === 0 && /^\s+and\s/i.test(query.slice(at))) {
      found.push(query.slice(from, at).trim())
      from = at + /^\s+and\s/i.exec(query.slice(at))![0].length
      at = from - 1
    }
  }
  return [...found, query.slice(from).trim()].filter(Boolean)
}

const NUMBER = String.raw`([-+]?(?:\d+\.?\d*|\.\d+)(?:e[-+]?\d+)?)`
const RANGE = new RegExp(String.raw`^(.+?)\s+in\s+${NUMBER}\s*\.\.\s*${NUMBER}$`, 'i')
const NAMES = /^(.+?)\s+in\s+\{(.*)\}$/is

function unquoted(text: string): string {
  const quoted = /^(["'])(.*)\1$/s.exec(text.trim())
  return quoted ? (quoted[2] ?? '').replaceAll(quoted[1]!.repeat(2), quoted[1]!) : text.trim()
}

/** Which axis a part of a query brushes, and where; null where it is another test. */
function brushIn(part: string): [string, Brush] | null {
  const range = RANGE.exec(part)
  if (range?.[1]) return [unquoted(range[1]), { low: Number(range[2]), high: Number(range[3]) }]
  const names = NAMES.exec(part)
  if (names?.[1]) {
    const listed = (names[2] ?? '').match(/(?:[^,"']|"[^"]*"|'[^']*')+/g) ?? []
    return [unquoted(names[1]), { names: listed.map(unquoted) }]
  }
  return null
}

/** The brushes that a query holds, by the texts of axes, and what is left of it without them. */
export function readBrushes(query: string, axes: string[]): { brushes: Map<string, Brush>; rest: string } {
  const brushes = new Map<string, Brush>()
  const plain = new Map(axes.map((text) => [unquoted(text), text]))
  const rest = conjuncts(query).filter((part) => {
    const found = brushIn(part)
    const axis = found ? plain.get(found[0]) : undefined
    if (!found || axis === undefined || brushes.has(axis)) return true
    brushes.set(axis, found[1])
    return false
  })
  return { brushes, rest: rest.join(' and ') }
}

export const written = (axis: string, brush: Brush) =>
  'names' in brush
    ? `${axis} in {${brush.names.map(word).join(', ')}}`
    : `${axis} in ${brush.low}..${brush.high}`

/** The query with the brush of one axis put in, moved or taken away. */
export function withBrush(query: string, axes: string[], axis: string, brush: Brush | null): string {
  const { brushes, rest } = readBrushes(query, axes)
  if (brush) brushes.set(axis, brush)
  else brushes.delete(axis)
  return [...brushes].reduce((text, [name, one]) => both(text, written(name, one)), rest)
}

/** Edges that read well: as many digits as a screen can tell apart on the axis. */
export function rounded(low: number, high: number, span: number): { low: number; high: number } {
  const unit = 10 ** (Math.floor(Math.log10(span || 1)) - 2)
  const trim = (value: number) => Number(value.toPrecision(12))
  return { low: trim(Math.floor(low / unit + 1e-9) * unit), high: trim(Math.ceil(high / unit - 1e-9) * unit) }
}
