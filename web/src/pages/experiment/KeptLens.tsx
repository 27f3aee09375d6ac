/** The lens on what runs kept: one plot laid over, or one image, table or film side by side, of the selected runs. */
import { useMemo } from 'react'
import type { RunPage } from '../../api/client'
import { useKept, type KeptName } from '../../api/results'
import { MediaFigure } from '../../parts/results/MediaFigure'
import { PlotFigure } from '../../parts/results/PlotFigure'
import { useAddress, type Selection } from '../../parts/selection'
import { plural } from '../../parts/values'
import { LensTitle } from './LensTitle'

const WITHOUT_SELECTION = 5
const MOST = 32

type Kept = NonNullable<ReturnType<typeof useKept>['data']>
type Shown = { value: string; plot?: KeptName; medium?: KeptName }

const shownPlot = (plot: KeptName): Shown => ({ value: `plot ${plot.name}`, plot })
const shownMedium = (medium: KeptName): Shown => ({ value: `${medium.kind} ${medium.name}`, medium })

/** What is asked for, or the first plot, or what else there is. */
function chosen(data: Kept | undefined, asked: string | null): Shown {
  const all = data ? [...data.plots.map(shownPlot), ...data.media.map(shownMedium)] : []
  return all.find((shown) => shown.value === asked) ?? all[0] ?? { value: '' }
}

export function KeptLens({ page, selection }: { page: RunPage; selection: Selection }) {
  const project = page.rows[0]?.project ?? ''
  const { params, change } = useAddress()
  const runs = useMemo(() => {
    const selected = page.rows.filter((run) => selection.has(String(run.number)))
    const shown = selected.length ? selected.slice(0, MOST) : page.rows.slice(0, WITHOUT_SELECTION)
    return shown.map((run, at) => ({
      reference: run.reference,
      label: String(run.number),
      slot: selection.get(String(run.number)) ?? at + 1,
    }))
  }, [page.rows, selection])
  const { data } = useKept(
    project,
    runs.map((run) => run.reference),
  )
  const { value, plot, medium } = chosen(data, params.get('kept'))
  return (
    <section aria-label="Lens" className="shrink-0 border-y border-line px-6">
      <div className="flex min-h-[30px] flex-wrap items-center gap-x-4 gap-y-1 border-b border-line text-xs text-ink2">
        <LensTitle />
        {data && (
          <label className="flex items-center gap-1">
            shown
            <select
              aria-label="What runs kept"
              className="field max-w-72 py-0 text-xs"
              value={value}
              onChange={(event) => change('kept', event.target.value)}
            >
              {data.plots.length > 0 && (
                <optgroup label="Plots">
                  {data.plots.map((kept) => (
                    <option key={kept.name} value={`plot ${kept.name}`}>
                      {kept.name}
                    </option>
                  ))}
                </optgroup>
              )}
              {data.media.length > 0 && (
                <optgroup label="Media and tables">
                  {data.media.map((kept) => (
                    <option key={`${kept.kind} ${kept.name}`} value={`${kept.kind} ${kept.name}`}>
                      {kept.name} ({kept.kind})
                    </option>
                  ))}
                </optgroup>
              )}
            </select>
          </label>
        )}
        <span className="ml-auto truncate text-ink3">
          {selection.size
            ? `of ${plural(runs.length, 'selected run')}`
            : `of the first ${runs.length} rows; select others below`}
        </span>
      </div>
      <div className="max-h-[46vh] min-h-[190px] overflow-auto py-1" tabIndex={0} aria-label="Kept results">
        {plot && <PlotFigure key={value} project={project} runs={runs} kept={plot} may={false} />}
        {medium && <MediaFigure key={value} project={project} runs={runs} kept={medium} />}
        {data && value === '' && (
          <p className="lab py-4">
            None of these runs kept a plot, an image, a sound, a video, a text or a table.
          </p>
        )}
      </div>
    </section>
  )
}
