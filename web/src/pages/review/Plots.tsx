/** Plots of both versions' runs laid over one another. */
import { useMemo } from 'react'
import { useParams } from 'react-router'
import { useKept } from '../../api/results'
import type { ReviewData } from '../../api/registry'
import { PlotFigure } from '../../parts/results/PlotFigure'
import { Key, Section } from '../../parts/Marks'
import { useAddress } from '../../parts/selection'

export function Plots({ review }: { review: ReviewData }) {
  const { project = '' } = useParams()
  const { params, change } = useAddress()
  const { candidate, other } = review
  const runs = useMemo(() => {
    const named = [candidate, ...(other ? [other] : [])].flatMap((side, at) => {
      const judged = side.evidence.map((one) => one.run)
      const all = [...new Set([...(side.run ? [side.run] : []), ...judged])]
      return all.map((reference) => ({ reference, label: String(side.number), slot: at + 1 }))
    })
    return named.filter((run, at) => named.findIndex((one) => one.reference === run.reference) === at)
  }, [candidate, other])
  const { data } = useKept(
    project,
    runs.map((run) => run.reference),
  )
  const plots = data?.plots ?? []
  const shown = plots.find((plot) => plot.name === params.get('plot')) ?? preferred(plots)
  if (!shown) return null
  return (
    <Section
      title="Plots"
      fact={
        <span className="flex items-center gap-3">
          <span>
            <Key slot={1} /> {candidate.number}
          </span>
          {other && (
            <span>
              <Key slot={2} /> {other.number}
            </span>
          )}
          <select
            aria-label="Plot"
            className="field py-0 text-xs"
            value={shown.name}
            onChange={(event) => change('plot', event.target.value)}
          >
            {plots.map((plot) => (
              <option key={plot.name}>{plot.name}</option>
            ))}
          </select>
        </span>
      }
    >
      <PlotFigure key={shown.name} project={project} runs={runs} kept={shown} may={false} />
    </Section>
  )
}

/** Ranking curves lie over one another best; else the first there is. */
const preferred = <P extends { name: string }>(plots: P[]) =>
  plots.find((plot) => plot.name.endsWith('/roc')) ?? plots[0]
