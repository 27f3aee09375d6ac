/** One plot of one run or several laid over one another: drawn, with its axes to choose, its numbers, taken along. */
import { useCallback, useMemo, useState } from 'react'
import { readColumns, usePlots, type KeptName, type PlotView, type Plots } from '../../api/results'
import { isEmpty, leftOut, legendOf, matrixOption, optionOf, type Drawn } from '../../charts/plotOption'
import { PlotChart } from '../../charts/PlotChart'
import { cell, download } from '../../charts/save'
import { takePicture } from '../../charts/takeAlong'
import { SaveMenu } from '../ChartChoices'
import { look } from '../looks'
import { asNumber, plain, plural, show, signed } from '../values'
import { DeclareButton, ViewChoices } from './ViewChoices'
import { StepChoice, stepsOf } from './StepChoice'

export type ShownRun = { reference: string; label: string; slot: number }

const MATRICES = 4

export function PlotFigure(props: {
  project: string
  runs: ShownRun[]
  kept: KeptName
  may: boolean
  height?: number
}) {
  const { project, runs, kept, may, height = 240 } = props
  const [view, setView] = useState<Partial<PlotView>>({})
  const [step, setStep] = useState<number | null>(null)
  const having = useMemo(() => {
    const names = new Set(kept.steps.map((found) => found.run))
    return runs.filter((run) => names.has(run.reference))
  }, [kept.steps, runs])
  const references = useMemo(() => having.map((run) => run.reference), [having])
  const { data, error } = usePlots(project, references, kept.name, step, view)
  const drawn = useMemo(() => data && withLooks(data, having), [data, having])
  const steps = stepsOf(kept)
  const saved = { project, references, name: kept.name, step }
  return (
    <figure
      className={`min-w-0 border-b border-line pt-1 pb-2 ${isWide(drawn) ? 'col-span-full' : ''}`}
      aria-label={`Plot ${kept.name}`}
    >
      <figcaption className="flex flex-wrap items-center gap-x-3 gap-y-1">
        <h3 className="truncate text-xs font-semibold" title={kept.name}>
          {drawn ? titleOf(drawn, kept.name) : kept.name}
        </h3>
        <span className="lab">{kept.kind.replace('_', ' ')}</span>
        <span className="ml-auto flex items-center gap-2">
          {may && references.length === 1 && (
            <DeclareButton
              project={project}
              run={references[0] ?? ''}
              name={kept.name}
              view={view}
              onDone={() => setView({})}
            />
          )}
          <SaveMenu title={kept.name} ready={!!drawn} saves={drawn ? saves(drawn, saved) : {}} />
        </span>
      </figcaption>
      {drawn && <ViewChoices plot={drawn.plots.plots[0]!} view={view} onChange={setView} />}
      {steps.length > 1 && <StepChoice steps={steps} step={step} onChange={setStep} name={kept.name} />}
      {error && <p className="py-1 text-xs text-bad">{error.message}</p>}
      {drawn && <Body drawn={drawn} name={kept.name} height={height} />}
      {having.length < runs.length && (
        <p className="lab">
          Without such a plot:{' '}
          {runs
            .filter((run) => !having.includes(run))
            .map((run) => run.label)
            .join(', ')}
        </p>
      )}
    </figure>
  )
}

/** Each plot gets the look and the name that its run has everywhere. */
function withLooks(plots: Plots, runs: ShownRun[]): Drawn {
  const shown = plots.plots.map((plot) => runs.find((run) => run.reference === plot.run))
  return {
    plots,
    slots: shown.map((run) => run?.slot ?? 1),
    names: shown.map((run, at) => run?.label ?? plots.plots[at]?.run ?? ''),
  }
}

const titleOf = (drawn: Drawn, name: string) => drawn.plots.plots[0]?.view.title || name

/** Matrices of many classes side by side take the whole width. */
const isWide = (drawn: Drawn | undefined) =>
  drawn !== undefined && drawn.plots.plots.length > 1 && (drawn.plots.plots[0]?.matrix?.names.length ?? 0) > 5

function Body({ drawn, name, height }: { drawn: Drawn; name: string; height: number }) {
  const matrix = drawn.plots.plots[0]?.view.mark === 'matrix'
  const gone = leftOut(drawn)
  const notes = drawn.plots.plots.filter((plot) => plot.note)
  return (
    <>
      {isEmpty(drawn) ? (
        <p
          className="lab grid place-items-center border border-dashed border-line"
          style={{ height: height / 2 }}
        >
          There is nothing to draw.
        </p>
      ) : matrix ? (
        <Matrices drawn={drawn} name={name} height={height} />
      ) : (
        <Lines drawn={drawn} name={name} height={height} />
      )}
      {gone > 0 && <p className="lab">{plural(gone, 'place')} at or below 0 cannot stand on a log scale.</p>}
      <Numbers drawn={drawn} />
      {notes.map((plot) => (
        <p key={plot.run} className="lab">
          {notes.length > 1 ? `${plot.run}: ` : ''}
          {plot.note}
        </p>
      ))}
      {drawn.plots.without.length > 0 && (
        <p className="lab">{drawn.plots.without.join(', ')}: no such plot at this step.</p>
      )}
    </>
  )
}

const NAMED = 24

function Lines({ drawn, name, height }: { drawn: Drawn; name: string; height: number }) {
  const option = useCallback(() => optionOf(drawn), [drawn])
  const legend = legendOf(drawn)
  return (
    <>
      {legend.length > 1 && (
        <ul
          className="flex max-h-[52px] flex-wrap gap-x-3 overflow-auto py-1 text-2xs text-ink2"
          aria-label="Series"
        >
          {legend.slice(0, NAMED).map(({ name: series, slot, dash, tone }, at) => (
            <li key={at} className="flex items-center gap-1 whitespace-nowrap">
              <svg width={18} height={8} aria-hidden>
                <line
                  x1="0"
                  x2="18"
                  y1="4"
                  y2="4"
                  strokeWidth="2.5"
                  stroke={look(slot).colour}
                  strokeOpacity={tone}
                  strokeDasharray={dash.join(' ')}
                />
              </svg>
              {series}
            </li>
          ))}
          {legend.length > NAMED && <li>and {legend.length - NAMED} more</li>}
        </ul>
      )}
      <PlotChart
        option={option}
        name={`${name}, ${plural(legend.length, 'series', 'series')}`}
        height={height}
      />
    </>
  )
}

function Matrices({ drawn, name, height }: { drawn: Drawn; name: string; height: number }) {
  const shown = drawn.plots.plots.slice(0, MATRICES)
  return (
    <>
      <div className={shown.length > 1 ? 'grid grid-cols-2 gap-x-3' : ''}>
        {shown.map((plot, at) => (
          <OneMatrix
            key={plot.run}
            drawn={drawn}
            at={at}
            name={name}
            height={matrixHeight(plot.matrix?.names.length ?? 0, height, shown.length > 1)}
          />
        ))}
      </div>
      {drawn.plots.plots.length > MATRICES && (
        <p className="lab">
          The first {MATRICES} of {drawn.plots.plots.length} matrices.
        </p>
      )}
      <Confusions drawn={drawn} />
    </>
  )
}

/** A row of a matrix with names takes a line; from some on they are too many to be named each. */
const matrixHeight = (classes: number, height: number, beside: boolean) =>
  Math.min(Math.max(beside ? height : height + 60, 94 + 18 * classes), 460)

function OneMatrix({ drawn, at, name, height }: { drawn: Drawn; at: number; name: string; height: number }) {
  const option = useCallback(() => matrixOption(drawn, at, null), [drawn, at])
  const plot = drawn.plots.plots[at]
  return (
    <div className="min-w-0">
      {drawn.plots.plots.length > 1 && <p className="strong text-xs">{drawn.names[at]}</p>}
      <PlotChart option={option} name={`${name} of ${plot?.run}`} height={height} />
    </div>
  )
}

const PAIRS = 6

/** Which classes are taken for which most often: what a matrix of many classes cannot be read for. */
function Confusions({ drawn }: { drawn: Drawn }) {
  const first = drawn.plots.plots[0]?.matrix
  if (!first || first.names.length < 8) return null
  const share = drawn.plots.plots[0]?.view.share !== 'count'
  const pairs = first.cells
    .flatMap((row, down) => row.map((count, across) => ({ count, down, across })))
    .filter(({ count, down, across }) => down !== across && count > 0)
    .sort((a, b) => b.count - a.count)
    .slice(0, PAIRS)
  return (
    <p className="flex flex-wrap gap-x-3 text-xs text-ink2">
      <span className="lab">
        {drawn.plots.plots.length > 1 ? `${drawn.names[0]}: ` : ''}most often taken for another:{' '}
      </span>
      {pairs.map(({ count, down, across }) => (
        <span key={`${down} ${across}`} className="max-w-full truncate">
          {first.names[down]} → {first.names[across]}{' '}
          <b>{share ? `${Math.round(count * 1000) / 10} %` : show(count)}</b>
        </span>
      ))}
      {pairs.length === 0 && 'none'}
    </p>
  )
}

const SAID = 6

function Numbers({ drawn }: { drawn: Drawn }) {
  const [all, setAll] = useState(false)
  const { numbers, plots } = drawn.plots
  if (numbers.length === 0) return null
  const shown = all ? numbers : numbers.slice(0, SAID)
  return (
    <table className="mt-1 w-full text-xs" aria-label="Numbers">
      {plots.length > 1 && (
        <thead>
          <tr className="border-b border-line text-right text-ink3">
            <th scope="col" />
            {plots.map((plot, at) => (
              <th key={plot.run} scope="col" className="pl-3 text-right">
                {drawn.names[at]}
              </th>
            ))}
            {plots.length === 2 && (
              <th scope="col" className="pl-3 text-right">
                {drawn.names[0]} − {drawn.names[1]}
              </th>
            )}
          </tr>
        </thead>
      )}
      <tbody>
        {shown.map((said) => (
          <tr key={said.name} className="border-b border-line">
            <th scope="row" className="text-ink2">
              {said.name.replace(/_/g, ' ')}
            </th>
            {said.values.map((value, at) => (
              <td key={at} className="pl-3 text-right">
                {value === null ? '–' : show(value)}
              </td>
            ))}
            {plots.length === 2 && (
              <td className="strong pl-3 text-right">
                {asNumber(said.change) === null ? '' : signed(asNumber(said.change)!)}
              </td>
            )}
          </tr>
        ))}
      </tbody>
      {numbers.length > SAID && (
        <tfoot>
          <tr>
            <td>
              <button className="link" onClick={() => setAll(!all)}>
                {all ? 'fewer' : `all ${numbers.length} numbers`}
              </button>
            </td>
          </tr>
        </tfoot>
      )}
    </table>
  )
}

function saves(
  drawn: Drawn,
  asked: { project: string; references: string[]; name: string; step: number | null },
) {
  const title = titleOf(drawn, `${asked.name} of ${asked.references.join(', ')}`)
  const option = () => optionOf(drawn, title)
  const matrices = drawn.plots.plots[0]?.view.mark === 'matrix' ? drawn.plots.plots.slice(1) : []
  const picture = async (form: 'png' | 'svg') => {
    await takePicture(option(), title, form)
    for (let at = 1; at <= matrices.length; at++) {
      const named = `${asked.name} of ${drawn.plots.plots[at]?.run}`
      await takePicture(matrixOption(drawn, at, named), named, form)
    }
  }
  return {
    PNG: () => void picture('png'),
    SVG: () => void picture('svg'),
    CSV: () =>
      void readColumns(asked.project, asked.references, asked.name, asked.step).then((plots) =>
        download(new Blob([csvOf(plots)], { type: 'text/csv' }), `${title}.csv`),
      ),
  }
}

/** Every column of the plots as it was recorded. */
function csvOf(plots: Plots): string {
  const names = [...new Set(plots.plots.flatMap((plot) => Object.keys(plot.columns)))]
  const lines = [['run', ...names]]
  for (const plot of plots.plots)
    for (let at = 0; at < plot.rows; at++)
      lines.push([plot.run, ...names.map((name) => written(plot.columns[name]?.[at]))])
  return lines.map((line) => line.map(cell).join(',')).join('\r\n') + '\r\n'
}

function written(value: unknown): string {
  const found = plain(value)
  return found === null || found === undefined ? '' : String(found)
}
