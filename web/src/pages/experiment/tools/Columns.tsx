/** Which columns there are, and which are shown; the hidden rest is counted. */
import { useState } from 'react'
import { AGGREGATES } from '../../../api/aggregates'
import type { RunPage } from '../../../api/client'
import { DropPanel } from '../../../parts/DropPanel'
import { plural } from '../../../parts/values'
import { columnText, type Shown } from '../columns'

const FIELDS = ['status', 'author', 'host', 'duration', 'ended', 'commit', 'code', 'parent', 'problem', 'id']
const TITLES = { value: 'Metrics and results', param: 'Settings', label: 'Labels', field: 'Of the run' }

type Props = {
  page: RunPage
  shown: Shown
  chosen: string[]
  onColumns: (texts: string[] | null) => void
}

export function ColumnsButton({ page, shown, chosen, onColumns }: Props) {
  const hidden = [shown.equal && `${shown.equal} equal`, shown.others && `${shown.others} more`].filter(
    Boolean,
  )
  const button = (
    <>
      Columns <span className="text-ink3">{hidden.length ? `${hidden.join(', ')} hidden` : 'all shown'}</span>
    </>
  )
  return (
    <DropPanel button={button} name="Columns">
      <Panel page={page} shown={shown} chosen={chosen} onColumns={onColumns} />
    </DropPanel>
  )
}

function Panel({ page, shown, chosen, onColumns }: Props) {
  const [find, setFind] = useState('')
  // What the address says is ahead of what came back.
  const texts = chosen.length ? chosen : shown.columns.map((column) => column.text)
  const metrics = new Set(page.rows.flatMap((run) => Object.keys(run.metrics)))
  const toggle = (text: string) =>
    onColumns(texts.includes(text) ? texts.filter((other) => other !== text) : [...texts, text])
  const known = [...page.columns, ...FIELDS.map((name) => ({ scope: 'field', name, differs: true }))]
  const fitting = known.filter((column) => column.name.toLowerCase().includes(find.toLowerCase()))
  return (
    <>
      <div className="flex items-center gap-2 border-b border-line p-2">
        <input
          aria-label="Find a column"
          className="field h-6 min-w-0 flex-1 text-xs"
          placeholder="find"
          value={find}
          onChange={(event) => setFind(event.target.value)}
        />
        <button className="btn" disabled={!chosen.length} onClick={() => onColumns(null)}>
          What differs
        </button>
      </div>
      <div
        className="max-h-[min(470px,64vh)] overflow-auto p-2"
        tabIndex={0}
        role="group"
        aria-label="All columns"
      >
        {(['value', 'param', 'label', 'field'] as const).map((scope) => {
          const rows = fitting.filter((column) => column.scope === scope)
          if (rows.length === 0) return null
          return (
            <fieldset key={scope} className="mb-2">
              <legend className="lab">{TITLES[scope]}</legend>
              {rows.slice(0, 200).map((column) => {
                const text = columnText(column, page.columns)
                return (
                  <div key={column.name} className="flex items-center gap-2">
                    <label className="flex min-w-0 flex-1 items-center gap-2 py-px">
                      <input type="checkbox" checked={texts.includes(text)} onChange={() => toggle(text)} />
                      <span className="truncate" title={column.name}>
                        {column.name}
                      </span>
                      {scope === 'param' && !column.differs && <span className="lab">equal</span>}
                    </label>
                    {scope === 'value' && metrics.has(column.name) && (
                      <select
                        aria-label={`Add an aggregate of ${column.name}`}
                        className="field py-0 text-2xs text-ink3"
                        value=""
                        onChange={(event) =>
                          event.target.value &&
                          toggle(columnText({ ...column, aggregate: event.target.value }, page.columns))
                        }
                      >
                        <option value="">aggregate</option>
                        {AGGREGATES.map((name) => (
                          <option key={name}>{name}</option>
                        ))}
                      </select>
                    )}
                  </div>
                )
              })}
              {rows.length > 200 && (
                <p className="lab">{plural(rows.length - 200, 'more')}: find them by name.</p>
              )}
            </fieldset>
          )
        })}
      </div>
    </>
  )
}
