/** A chart taken along: as PNG as it is on screen, as SVG drawn anew, as CSV of the points drawn. */
import { look, resolved } from '../parts/looks'
import type { Series } from './Curves'
import { xOf, type Axis, type Zoom } from './arrange'

export type Picture = {
  title: string
  series: Series[]
  axis: Axis
  axisName: string
  log: boolean
  bound?: number | null
  zoom?: Zoom | null
}

const WIDTH = 960
const HEIGHT = 420
const BOX = { left: 64, top: 36, right: 800, bottom: 376 }

export function download(content: Blob, name: string) {
  const address = URL.createObjectURL(content)
  const link = document.createElement('a')
  link.href = address
  link.download = name.replace(/[^\w.-]+/g, '-')
  link.click()
  setTimeout(() => URL.revokeObjectURL(address), 10_000)
}

export function savePng(canvas: HTMLCanvasElement, title: string) {
  const room = 28 * devicePixelRatio
  const whole = document.createElement('canvas')
  whole.width = canvas.width
  whole.height = canvas.height + room
  const ctx = whole.getContext('2d')
  if (!ctx) return
  ctx.fillStyle = resolved('var(--surface)')
  ctx.fillRect(0, 0, whole.width, whole.height)
  ctx.fillStyle = resolved('var(--ink)')
  ctx.font = `600 ${13 * devicePixelRatio}px "Source Sans 3 Variable", sans-serif`
  ctx.fillText(title, 8 * devicePixelRatio, 19 * devicePixelRatio)
  ctx.drawImage(canvas, 0, room)
  whole.toBlob((content) => content && download(content, `${title}.png`))
}

export const cell = (text: string | number) =>
  /[",\n]/.test(String(text)) ? `"${String(text).replace(/"/g, '""')}"` : text

/** The points as drawn: reduced by the service to what the chart can show; nothing is made up between them. */
export function csvOf({ series, axis, axisName }: Picture): string {
  const lines = [
    axis === 'metric' ? ['run', 'step', 'time', axisName, 'value'] : ['run', 'step', 'time', 'value'],
  ]
  for (const one of series)
    one.steps.forEach((step, at) => {
      const value = one.values[at]
      const line: (string | number)[] = [one.name, step, new Date((one.times[at] ?? 0) / 1000).toISOString()]
      if (axis === 'metric') line.push(one.against?.[at] ?? 'NaN')
      lines.push([...line, value ?? 'NaN'].map(String))
    })
  return lines.map((line) => line.map(cell).join(',')).join('\r\n') + '\r\n'
}

export const saveCsv = (picture: Picture) =>
  download(new Blob([csvOf(picture)], { type: 'text/csv' }), `${picture.title}.csv`)

/** Round places for ticks: 1, 2 or 5 times a power of ten. */
export function ticks(low: number, high: number, count: number): number[] {
  const raw = (high - low) / count
  const power = 10 ** Math.floor(Math.log10(raw))
  const grain = ([1, 2, 5, 10].find((factor) => factor * power >= raw) ?? 10) * power
  const found = []
  for (let at = Math.ceil(low / grain) * grain; at <= high + grain / 1e6; at += grain)
    found.push(Number(at.toPrecision(12)))
  return found
}

const text = (given: string) => given.replace(/[<>&"]/g, (sign) => `&#${sign.charCodeAt(0)};`)

function spread(values: number[], room: number): [number, number] {
  let low = Infinity
  let high = -Infinity
  for (const value of values) {
    low = Math.min(low, value)
    high = Math.max(high, value)
  }
  if (low > high) return [0, 1]
  const pad = (high - low || Math.abs(high) || 1) * room
  return [low - pad, high + pad]
}

export function svgOf({ title, series, axis, axisName, log, bound, zoom }: Picture): string {
  const scaled = (value: number) => (log ? Math.log10(value) : value)
  const lines = series.map((one) => {
    const xs = xOf(one, axis)
    return one.values.map((value, at) => {
      const x = xs[at] ?? NaN
      const gone = value === null || Number.isNaN(x) || (log && value <= 0)
      return gone || (zoom && (x < zoom[0] || x > zoom[1])) ? null : ([x, scaled(value)] as const)
    })
  })
  const points = lines.flat().filter((point) => point !== null)
  const [x0, x1] =
    zoom ??
    spread(
      points.map((point) => point[0]),
      points.length === 1 ? 0.5 : 0,
    )
  const [y0, y1] = spread(
    points.map((point) => point[1]),
    0.06,
  )
  const left = (x: number) => BOX.left + ((x - x0) / (x1 - x0 || 1)) * (BOX.right - BOX.left)
  const down = (y: number) => BOX.bottom - ((y - y0) / (y1 - y0)) * (BOX.bottom - BOX.top)
  const ink = resolved('var(--ink2)')
  const parts = [
    `<svg xmlns="http://www.w3.org/2000/svg" width="${WIDTH}" height="${HEIGHT}" viewBox="0 0 ${WIDTH} ${HEIGHT}" font-family="Source Sans 3, sans-serif" font-size="12">`,
    `<rect width="${WIDTH}" height="${HEIGHT}" fill="${resolved('var(--surface)')}"/>`,
    `<text x="16" y="22" font-weight="600" font-size="14" fill="${resolved('var(--ink)')}">${text(title)}</text>`,
  ]
  for (const at of ticks(y0, y1, 6)) {
    const y = down(at).toFixed(1)
    parts.push(
      `<line x1="${BOX.left}" x2="${BOX.right}" y1="${y}" y2="${y}" stroke="${resolved('var(--line)')}"/>`,
    )
    const shown = log ? Number((10 ** at).toPrecision(3)) : at
    parts.push(`<text x="${BOX.left - 8}" y="${y}" dy="4" text-anchor="end" fill="${ink}">${shown}</text>`)
  }
  for (const at of ticks(x0, x1, 8)) {
    const shown = axis === 'clock' ? new Date(at * 1000).toISOString().slice(11, 19) : at
    parts.push(
      `<text x="${left(at).toFixed(1)}" y="${BOX.bottom + 18}" text-anchor="middle" fill="${ink}">${shown}</text>`,
    )
  }
  parts.push(
    `<text x="${BOX.right}" y="${BOX.bottom + 36}" text-anchor="end" fill="${ink}">${text(axisName)}</text>`,
  )
  if (bound !== null && bound !== undefined && scaled(bound) >= y0 && scaled(bound) <= y1) {
    const y = down(scaled(bound)).toFixed(1)
    parts.push(
      `<line x1="${BOX.left}" x2="${BOX.right}" y1="${y}" y2="${y}" stroke="${ink}" stroke-dasharray="1 3"/>`,
    )
  }
  lines.forEach((line, index) => {
    const one = series[index]
    if (one) parts.push(...drawn(one, line, axis === 'metric', left, down))
  })
  return [...parts, '</svg>'].join('\n')
}

function drawn(
  one: Series,
  line: (readonly [number, number] | null)[],
  dots: boolean,
  left: (x: number) => number,
  down: (y: number) => number,
): string[] {
  const { colour, dash } = look(one.slot)
  const stroke = resolved(colour)
  const at = ([x, y]: readonly [number, number]) => `${left(x).toFixed(1)} ${down(y).toFixed(1)}`
  const points = line.filter((point) => point !== null)
  const last = points.at(-1)
  const end =
    last && one.slot > 0
      ? [
          `<text x="${BOX.right + 10}" y="${down(last[1]).toFixed(1)}" dy="4" fill="${resolved('var(--ink)')}">${text(one.label || one.name)}</text>`,
        ]
      : []
  if (dots)
    return [
      ...points.map(
        (point) =>
          `<circle cx="${left(point[0]).toFixed(1)}" cy="${down(point[1]).toFixed(1)}" r="2.5" fill="${stroke}"/>`,
      ),
      ...end,
    ]
  let path = ''
  let pen = 'M'
  for (const point of line) {
    if (point) path += `${pen}${at(point)}`
    pen = point ? 'L' : 'M'
  }
  const style = `stroke="${stroke}" stroke-width="${one.slot > 0 ? 1.8 : 1}" stroke-dasharray="${dash.join(' ')}"`
  return [`<path d="${path}" fill="none" ${style}/>`, ...end]
}

export const saveSvg = (picture: Picture) =>
  download(new Blob([svgOf(picture)], { type: 'image/svg+xml' }), `${picture.title}.svg`)
