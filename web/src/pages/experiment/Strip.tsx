/** What is selected, and what can be done with it. */
import { useState } from 'react'
import type { RunPage } from '../../api/client'
import { LabelDialog, NoteDialog } from '../../parts/DescribeDialogs'
import { Key } from '../../parts/Marks'
import type { Selection } from '../../parts/selection'
import { useBinning } from '../../parts/useBinning'
import { show } from '../../parts/values'
import { ExportMenu } from './tools/TakeAlong'

const NAMED = 6
const COMPARED = 100

export function Strip({
  place: { project, experiment },
  page,
  selection,
  goalKey,
  columns,
  onClear,
  onCompare,
}: {
  place: { project: string; experiment: string }
  page: RunPage
  selection: Selection
  goalKey: string | undefined
  columns: string[]
  onClear: () => void
  onCompare: () => void
}) {
  const rows = new Map(page.rows.map((run) => [String(run.number), run]))
  const [asking, setAsking] = useState<'label' | 'note' | null>(null)
  const { putAway, pending } = useBinning(project)
  const references = [...selection.keys()].map((number) => `${experiment}/${number}`)
  const about = { project, runs: references, onClose: () => setAsking(null) }
  const none = selection.size === 0
  return (
    <section
      aria-label="Selection"
      className="sticky top-0 z-10 flex h-8 shrink-0 items-center gap-5 overflow-hidden border-b border-line2 bg-bg px-6 text-xs"
    >
      <span className="whitespace-nowrap text-ink2">
        {none
          ? 'None selected: click a row, or press Space on it; with Shift a range'
          : `${selection.size} selected`}
      </span>
      {[...selection].slice(0, NAMED).map(([number, slot]) => (
        <span key={number} className="max-w-48 min-w-12 truncate" title={rows.get(number)?.name ?? undefined}>
          <Key slot={slot} /> <b className="strong">{number}</b>{' '}
          <span className="text-ink2">
            {goalKey ? show(rows.get(number)?.values[goalKey] ?? undefined) : ''} {rows.get(number)?.name}
          </span>
        </span>
      ))}
      {selection.size > NAMED && (
        <span className="whitespace-nowrap text-ink3">and {selection.size - NAMED} more</span>
      )}
      <span className="ml-auto flex shrink-0 gap-2 bg-bg pl-2">
        <button className="btn" disabled={none} onClick={onClear}>
          Clear
        </button>
        <button className="btn" disabled={none} onClick={() => setAsking('label')}>
          Label
        </button>
        <button className="btn" disabled={none} onClick={() => setAsking('note')}>
          Note
        </button>
        <button className="btn" disabled={none || pending} onClick={() => putAway(references, onClear)}>
          Bin
        </button>
        <ExportMenu
          text="Export"
          name="Export the selection"
          disabled={none}
          place={{ project, experiment }}
          query={`number in {${[...selection.keys()].join(', ')}}`}
          sort=""
          columns={columns}
        />
        <button
          className="btn btn-p"
          disabled={selection.size < 2 || selection.size > COMPARED}
          title={selection.size > COMPARED ? `Up to ${COMPARED} runs are compared` : undefined}
          onClick={onCompare}
        >
          Compare {selection.size > 1 ? selection.size : ''}
        </button>
      </span>
      {asking === 'label' && <LabelDialog {...about} />}
      {asking === 'note' && <NoteDialog project={project} things={references} onClose={about.onClose} />}
    </section>
  )
}
