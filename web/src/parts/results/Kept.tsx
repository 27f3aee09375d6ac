/** The plots and the media of one run or of several: laid over one another and side by side. */
import { useState } from 'react'
import { useKept, type KeptName } from '../../api/results'
import { Section } from '../Marks'
import { matcher } from '../filter'
import { plural } from '../values'
import { MediaFigure } from './MediaFigure'
import { PlotFigure, type ShownRun } from './PlotFigure'

const FIRST = 6
const ORDER = ['image', 'video', 'sound', 'text', 'table']
const byKind = (a: KeptName, b: KeptName) => ORDER.indexOf(a.kind) - ORDER.indexOf(b.kind)

export function Kept({ project, runs, may = false }: { project: string; runs: ShownRun[]; may?: boolean }) {
  const { data } = useKept(
    project,
    runs.map((run) => run.reference),
  )
  if (!data) return null
  return (
    <>
      {data.plots.length > 0 && (
        <Group title="Plots" what="plots" kept={data.plots}>
          {(kept) => <PlotFigure key={kept.name} project={project} runs={runs} kept={kept} may={may} />}
        </Group>
      )}
      {data.media.length > 0 && (
        <Group title="Media and tables" what="media" kept={[...data.media].sort(byKind)}>
          {(kept) => (
            <MediaFigure key={`${kept.kind} ${kept.name}`} project={project} runs={runs} kept={kept} />
          )}
        </Group>
      )}
    </>
  )
}

function Group(props: {
  title: string
  what: string
  kept: KeptName[]
  children: (kept: KeptName) => React.ReactNode
}) {
  const { title, what, kept, children } = props
  const [all, setAll] = useState(false)
  const [only, setOnly] = useState('')
  const { fits } = matcher(only)
  const fitting = kept.filter((found) => fits(found.name))
  const shown = all ? fitting : fitting.slice(0, FIRST)
  return (
    <Section
      className="col-span-12 min-w-0"
      title={title}
      fact={
        <span className="flex items-center gap-3 text-xs">
          {kept.length > FIRST && (
            <input
              aria-label={`Filter ${what} by glob or /regular expression/`}
              className="field mono w-36 py-0 text-xs"
              placeholder={`${what}: *`}
              value={only}
              onChange={(event) => setOnly(event.target.value)}
              spellCheck={false}
            />
          )}
          {plural(kept.length, 'name')}
        </span>
      }
    >
      <div className="grid grid-cols-[repeat(auto-fill,minmax(min(460px,100%),1fr))] gap-x-6 gap-y-2">
        {shown.map((found) => children(found))}
      </div>
      {fitting.length > shown.length && (
        <p className="py-1">
          <button className="btn" onClick={() => setAll(true)}>
            Show {fitting.length - shown.length} more
          </button>
        </p>
      )}
      {fitting.length === 0 && <p className="lab">None of {plural(kept.length, 'name')} fits this filter.</p>}
    </Section>
  )
}
