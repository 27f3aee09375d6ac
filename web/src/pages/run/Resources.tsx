/** What a run used of its machine, over its time. */
import type { RunDetail } from '../../api/client'
import { useResources } from '../../api/following'
import { Curves } from '../../charts/Curves'
import { Section } from '../../parts/Marks'
import { bytes, plural, show } from '../../parts/values'

const CHARTS: [string, RegExp, string[]][] = [
  ['Processor', /cpu \(%\)$|^gpu \d+ \(%\)$/, ['%']],
  ['Memory', /^memory \(bytes\)$|^gpu \d+ memory/, ['B', 'kB', 'MB', 'GB']],
  ['Disk', /^disk (read|written)/, ['B/s', 'kB/s', 'MB/s', 'GB/s']],
  ['Network', /^network/, ['B/s', 'kB/s', 'MB/s', 'GB/s']],
]

/** The unit in which the highest value has up to three digits, and how many of the plain ones it holds. */
function unitOf(most: number, units: string[]): [string, number] {
  const at = Math.max(0, Math.min(units.length - 1, Math.floor(Math.log10(Math.max(1, most)) / 3)))
  return [units[at] ?? '', 1000 ** at]
}

export function Resources({ run }: { run: RunDetail }) {
  const { data } = useResources(run, 300)
  if (!run.has_resources || !data) return null
  const { at = [], ...columns } = data.samples
  const times = at.map((moment) => moment ?? 0)
  const charts = CHARTS.map(([title, fits, units]) => {
    const names = Object.keys(columns).filter((name) => fits.test(name))
    const most = Math.max(0, ...names.map((name) => highest(columns[name] ?? [])))
    const [unit, size] = unitOf(most, units)
    return { title, names, unit, size, most }
  }).filter(({ names }) => names.length > 0)
  const cores = columns['machine cores']?.at(-1)
  const room = columns['machine memory size (bytes)']?.at(-1)
  return (
    <Section
      className="col-span-12"
      title="Use of the machine"
      fact={`${plural(times.length, 'sample')}${cores ? ` · ${plural(cores, 'core')}` : ''}${room ? ` · ${bytes(room)} of memory` : ''}`}
    >
      <div className="grid grid-cols-[repeat(auto-fill,minmax(280px,1fr))] gap-x-6">
        {charts.map(({ title, names, unit, size, most }) => (
          <figure key={title} className="m-0 border-b border-line pt-1">
            <figcaption className="flex gap-3 text-xs text-ink2">
              {title}, {unit}
              <span className="lab ml-auto">
                highest {show(most / size)} {unit}
              </span>
            </figcaption>
            <Curves
              title={`${title} of ${run.reference}`}
              height={110}
              axis="elapsed"
              series={names.map((name, slot) => ({
                name,
                label: name.replace(/ \(.*$/, ''),
                slot: slot + 1,
                status: run.status,
                steps: times.map((_, step) => step),
                times,
                values: (columns[name] ?? []).map((value) => (value === null ? null : value / size)),
              }))}
            />
          </figure>
        ))}
      </div>
    </Section>
  )
}

const highest = (values: (number | null)[]) => Math.max(0, ...values.filter((value) => value !== null))
