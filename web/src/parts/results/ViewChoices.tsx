/** How a plot is drawn: which columns, on which scales; kept for everybody where that is wanted. */
import { useState } from 'react'
import { useDeclareView, type KeptPlot, type PlotView } from '../../api/results'
import { toast } from '../Toasts'

type Change = Partial<PlotView>

export function ViewChoices(props: { plot: KeptPlot; view: Change; onChange: (view: Change) => void }) {
  const { plot, view, onChange } = props
  // What was chosen stands at once, also before the service has drawn it.
  const now = { ...plot.view, ...view }
  const set = (part: Change) => onChange({ ...view, ...part })
  const columns = plot.column_names
  if (now.mark === 'matrix') {
    return (
      <div className="flex flex-wrap items-center gap-x-3 gap-y-1 py-1 text-xs text-ink2">
        <Choice
          name="cells"
          value={now.share}
          options={[
            ['count', 'counts'],
            ['row', 'share of truth'],
            ['column', 'share of prediction'],
          ]}
          onChange={(share) => set({ share: share as PlotView['share'] })}
        />
        <Undo view={view} onChange={onChange} />
      </div>
    )
  }
  const declared = now.y.join(', ')
  return (
    <div className="flex flex-wrap items-center gap-x-3 gap-y-1 py-1 text-xs text-ink2">
      <Choice
        name="x"
        value={now.x}
        options={columns.map((name) => [name, name])}
        onChange={(x) => set({ x, x_name: '', diagonal: false })}
      />
      <Choice
        name="y"
        value={now.y.length === 1 ? now.y[0]! : declared}
        options={[
          ...(now.y.length > 1 ? [[declared, declared] as [string, string]] : []),
          ...columns.map((name) => [name, name] as [string, string]),
        ]}
        onChange={(y) => y !== declared && set({ y: [y], y_name: '', diagonal: false })}
      />
      <Choice
        name="group"
        value={now.group ?? ''}
        options={[['', 'none'], ...columns.map((name) => [name, name] as [string, string])]}
        onChange={(group) => set({ group: group || null })}
      />
      <Choice
        name="as"
        value={now.mark}
        options={['line', 'steps', 'points', 'bars'].map((mark) => [mark, mark])}
        onChange={(mark) => set({ mark: mark as PlotView['mark'] })}
      />
      {now.mark !== 'bars' && (
        <Log
          name="log x"
          on={now.x_scale === 'log'}
          onChange={(on) => set({ x_scale: on ? 'log' : 'linear' })}
        />
      )}
      <Log
        name="log y"
        on={now.y_scale === 'log'}
        onChange={(on) => set({ y_scale: on ? 'log' : 'linear' })}
      />
      <Undo view={view} onChange={onChange} />
    </div>
  )
}

function Choice(props: {
  name: string
  value: string
  options: [string, string][]
  onChange: (value: string) => void
}) {
  return (
    <label className="flex items-center gap-1">
      {props.name}
      <select
        aria-label={props.name}
        className="field max-w-28 py-0 text-xs"
        value={props.value}
        onChange={(event) => props.onChange(event.target.value)}
      >
        {props.options.map(([value, text]) => (
          <option key={value} value={value}>
            {text}
          </option>
        ))}
      </select>
    </label>
  )
}

function Log(props: { name: string; on: boolean; onChange: (on: boolean) => void }) {
  return (
    <label className="flex items-center gap-1">
      <input type="checkbox" checked={props.on} onChange={(event) => props.onChange(event.target.checked)} />
      {props.name}
    </label>
  )
}

function Undo({ view, onChange }: { view: Change; onChange: (view: Change) => void }) {
  if (Object.keys(view).length === 0) return null
  return (
    <button className="btn leading-[18px]" onClick={() => onChange({})}>
      As declared
    </button>
  )
}

/** Draw it so for everybody; nothing is recorded again. */
export function DeclareButton(props: {
  project: string
  run: string
  name: string
  view: Change
  onDone: () => void
}) {
  const [experiment = '', number = ''] = props.run.split('/')
  const declare = useDeclareView(props.project, experiment, number)
  const [busy, setBusy] = useState(false)
  if (Object.keys(props.view).length === 0) return null
  return (
    <button
      className="btn leading-[18px]"
      disabled={busy}
      title="Keep these axes for everybody who opens this plot"
      onClick={() => {
        setBusy(true)
        declare.mutate(
          { name: props.name, view: props.view },
          {
            onSuccess: () => {
              toast(`${props.name} is drawn so for everybody.`)
              props.onDone()
            },
            onError: (error) => toast(error.message),
            onSettled: () => setBusy(false),
          },
        )
      }}
    >
      Declare
    </button>
  )
}
