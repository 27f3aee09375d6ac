/** Typed values of the interface, written for people. */
import type { Goal } from '../api/client'

/** NaN and infinities travel as {"float": "NaN"}. */
export function plain(value: unknown): unknown {
  if (value && typeof value === 'object' && 'float' in value) {
    const name = (value as { float: string }).float
    return name === 'NaN' ? NaN : name === 'Infinity' ? Infinity : -Infinity
  }
  return value
}

export function asNumber(value: unknown): number | null {
  const found = plain(value)
  return typeof found === 'number' ? found : null
}

/** How many decimals a column needs so that its middle number has three significant digits. */
export function decimalsOf(values: unknown[]): number {
  const numbers = values.map(asNumber).filter((value): value is number => value !== null && isFinite(value))
  if (numbers.length === 0 || numbers.every(Number.isInteger)) return 0
  const sizes = numbers
    .map(Math.abs)
    .filter((size) => size > 0)
    .sort((a, b) => a - b)
  const middle = sizes[Math.floor(sizes.length / 2)]
  return middle === undefined ? 0 : Math.min(8, Math.max(0, 2 - Math.floor(Math.log10(middle))))
}

export function show(value: unknown, decimals?: number): string {
  const found = plain(value)
  if (found === null || found === undefined) return found === null ? 'null' : '–'
  if (typeof found === 'number') {
    if (Number.isNaN(found)) return 'NaN'
    if (!isFinite(found)) return found > 0 ? '∞' : '−∞'
    const text =
      decimals === undefined
        ? Number.isInteger(found)
          ? String(found)
          : String(Number(found.toPrecision(4)))
        : found.toFixed(decimals)
    return text.replace('-', '−')
  }
  if (Array.isArray(found)) return `[${found.map((item) => show(item)).join(', ')}]`
  return String(found)
}

export function signed(change: number): string {
  if (change === 0) return '±0'
  const text = String(Number(Math.abs(change).toPrecision(3)))
  return (change > 0 ? '+' : '−') + text
}

export const arrow = (goal: Goal | null | undefined) =>
  goal ? (goal.direction === 'higher' ? ' ↑' : ' ↓') : ''

const inZone = (timeZone?: string) => ({
  clock: new Intl.DateTimeFormat('en-GB', { hour: '2-digit', minute: '2-digit', timeZone }),
  day: new Intl.DateTimeFormat('en-GB', { day: 'numeric', month: 'short', timeZone }),
  dated: new Intl.DateTimeFormat('en-GB', { day: 'numeric', month: 'short', year: 'numeric', timeZone }),
  full: new Intl.DateTimeFormat('en-GB', { dateStyle: 'medium', timeStyle: 'medium', timeZone }),
})
let times = inZone()

/** Show times in a zone of the IANA database; for an empty or unknown one in the browser's. */
export function setTimeZone(zone: string) {
  try {
    times = inZone(zone || undefined)
  } catch {
    times = inZone()
  }
}

export function moment(text: string | null | undefined): string {
  if (!text) return ''
  const at = new Date(text)
  const now = new Date()
  if (times.dated.format(now) === times.dated.format(at)) return `today ${times.clock.format(at)}`
  const day = now.getFullYear() === at.getFullYear() ? times.day : times.dated
  return `${day.format(at)} ${times.clock.format(at)}`
}

export const fullMoment = (text: string) => times.full.format(new Date(text))

/** A length of time. */
export function lasting(seconds: number): string {
  if (seconds < 60) return `${seconds.toFixed(1)} s`
  const minutes = Math.floor(seconds / 60)
  return minutes < 60
    ? `${minutes} min ${Math.floor(seconds % 60)} s`
    : `${Math.floor(minutes / 60)} h ${minutes % 60} min`
}

export const duration = (from: string, to: string | null) =>
  lasting((new Date(to ?? Date.now()).getTime() - new Date(from).getTime()) / 1000)

export function bytes(size: number): string {
  const units = ['B', 'kB', 'MB', 'GB', 'TB']
  let at = 0
  while (size >= 1000 && at < units.length - 1) {
    size /= 1000
    at++
  }
  return `${at ? size.toFixed(1) : size} ${units[at]}`
}

/** A share as a percentage: 95 %, 99.99 %. */
export const percentOf = (share: number) => `${+(share * 100).toPrecision(6)} %`

/** How many runs would tell a difference: the number, or that it is out of reach. */
export const runsNeeded = (needed: number) => (needed > 1000 ? 'more than 1,000' : String(needed))

export const plural = (count: number, one: string, many = `${one}s`) =>
  `${count.toLocaleString('en')} ${count === 1 ? one : many}`

/** Keys with goals first, in the goals' order. */
export function goalsFirst(keys: string[], goals: Goal[]): string[] {
  const leading = goals.map((goal) => goal.key).filter((key) => keys.includes(key))
  return [...leading, ...keys.filter((key) => !leading.includes(key))]
}

/** Where a run's page is; a reference may name a project of its own before it. */
export function runPath(project: string, reference: string): string {
  const parts = reference.split('/')
  return parts.length === 3 ? `/${parts[0]}/e/${parts[1]}/${parts[2]}` : `/${project}/e/${reference}`
}
