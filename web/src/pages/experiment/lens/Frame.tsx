/** The lens around a chart of runs: its choices, what is left out, and the ways to take it along. */
import type { EChartsCoreOption } from 'echarts/core'
import type { Drawn } from '../../../api/comparing'
import { cell, download } from '../../../charts/save'
import { takePicture } from '../../../charts/takeAlong'
import { SaveMenu } from '../../../parts/ChartChoices'
import { show } from '../../../parts/values'
import { LensEdge } from '../LensEdge'
import { LensTitle } from '../LensTitle'

export function csvOf(drawn: Drawn): string {
  const head = ['run', ...drawn.columns.map((column) => column.text)]
  const rows = drawn.runs.map((run, at) => [
    run.reference,
    ...drawn.columns.map((column) => (column.values[at] === null ? '' : show(column.values[at]))),
  ])
  return [head, ...rows].map((row) => row.map((text) => cell(String(text))).join(',')).join('\n') + '\n'
}

export function Frame(props: {
  title: string
  choices: React.ReactNode
  note: string
  drawn: Drawn | undefined
  option: (() => EChartsCoreOption) | null
  children: React.ReactNode
}) {
  const { title, choices, note, drawn, option, children } = props
  return (
    <section aria-label="Lens" className="shrink-0 border-y border-line px-6">
      <div className="flex min-h-[30px] flex-wrap items-center gap-x-4 gap-y-1 border-b border-line text-xs text-ink2">
        <LensTitle />
        {choices}
        {option && (
          <SaveMenu
            title={title}
            ready={drawn !== undefined}
            saves={{
              PNG: () => void takePicture(option(), title, 'png', 480),
              SVG: () => void takePicture(option(), title, 'svg', 480),
              'CSV of what is drawn': () =>
                drawn && download(new Blob([csvOf(drawn)], { type: 'text/csv' }), `${title}.csv`),
            }}
          />
        )}
        <span className="ml-auto truncate text-ink3" title={note}>
          {note}
        </span>
      </div>
      {children}
      <LensEdge />
    </section>
  )
}

export function Choice(props: {
  name: string
  value: string
  options: { value: string; text: string }[]
  onChange: (value: string) => void
}) {
  const { name, value, options, onChange } = props
  return (
    <label className="flex items-center gap-1">
      {name}
      <select
        aria-label={name}
        className="field max-w-36 py-0 text-xs"
        value={value}
        onChange={(event) => onChange(event.target.value)}
      >
        {options.map((option) => (
          <option key={option.value} value={option.value}>
            {option.text}
          </option>
        ))}
      </select>
    </label>
  )
}

export function Tick(props: { name: string; on: boolean; onChange: (on: boolean) => void; title?: string }) {
  return (
    <label className="flex items-center gap-1 whitespace-nowrap" title={props.title}>
      <input type="checkbox" checked={props.on} onChange={(event) => props.onChange(event.target.checked)} />
      {props.name}
    </label>
  )
}
