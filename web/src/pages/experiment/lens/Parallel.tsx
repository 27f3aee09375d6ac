/** Parallel coordinates: a brush on an axis is a term of the query, and a term of the query is a brush. */
import { useCallback, useMemo } from 'react'
import type { RunPage } from '../../../api/client'
import { useDrawn, type Drawn, type DrawnColumn } from '../../../api/comparing'
import { parallelOption, type ParallelAxis } from '../../../charts/parallelOption'
import { isNumeric, levelsOf } from '../../../charts/drawnColumns'
import { RunsChart, type Intervals } from '../../../charts/RunsChart'
import { useAddress } from '../../../parts/selection'
import { asNumber, plural } from '../../../parts/values'
import { parts } from '../words'
import { Choice, Frame, Tick } from './Frame'
import { beyond, byReference, useLensHeight, type LensProps } from './shared'
import { readBrushes, rounded, withBrush, type Brush } from './brushes'
import { axesOf, offered, offeredAs, type Offered } from './columnsToDraw'

const HIGHER = 42

function numbersOf(column: DrawnColumn): number[] {
  return column.values.map(asNumber).filter((value): value is number => value !== null && isFinite(value))
}

/** Over so many times the smallest, positive numbers stand on a log scale unless it is chosen otherwise. */
const WIDE = 50

function wide(column: DrawnColumn): boolean {
  const numbers = isNumeric(column) ? numbersOf(column) : []
  return numbers.length > 1 && Math.min(...numbers) > 0 && Math.max(...numbers) > WIDE * Math.min(...numbers)
}

/** Where a brush of the query stands on its axis. */
function intervalsOf(brushes: Map<string, Brush>, drawn: Drawn | undefined): Intervals {
  const found: Intervals = new Map()
  for (const [text, brush] of brushes) {
    const column = drawn?.columns.find((one) => one.text === text)
    if (!column) continue
    if (isNumeric(column)) {
      const numbers = 'names' in brush ? brush.names.map(Number) : [brush.low, brush.high]
      found.set(text, [[Math.min(...numbers), Math.max(...numbers)]])
    } else if ('names' in brush) {
      const levels = levelsOf(column)
      found.set(
        text,
        brush.names.map((name) => levels.indexOf(name)).filter((at) => at >= 0).map((at) => [Math.max(0, at - 0.4), Math.min(levels.length - 1, at + 0.4)]),
      ) // prettier-ignore
    }
  }
  return found
}

/** What was brushed by hand, as a term of the query. */
function brushOf(column: DrawnColumn, intervals: [number, number][]): Brush | null {
  if (intervals.length === 0) return null
  const low = Math.min(...intervals.map(([from, to]) => Math.min(from, to)))
  const high = Math.max(...intervals.map(([from, to]) => Math.max(from, to)))
  if (!isNumeric(column)) {
    const names = levelsOf(column).filter((_, at) =>
      intervals.some(([from, to]) => at >= Math.min(from, to) - 1e-9 && at <= Math.max(from, to) + 1e-9),
    )
    return names.length ? { names } : null
  }
  const numbers = numbersOf(column)
  return rounded(low, high, Math.max(...numbers) - Math.min(...numbers))
}

export default function Parallel({ place, page, query, sort, pareto, selection, onOpen }: LensProps) {
  const { params, changeAll } = useAddress()
  const height = useLensHeight() + HIGHER
  const all = offered(page)
  const asked = parts(params.get('axes'))
  const chosen = asked.flatMap((text) => offeredAs(all, text) ?? [])
  const axes = chosen.length > 1 ? chosen : axesOf(all)
  const { brushes, rest } = readBrushes(query, axes)
  const { data: drawn, error } = useDrawn(place.project, place.experiment, {
    column: axes,
    query: rest,
    sort,
    pareto,
  })
  const askedLogs = params.get('logs')
  const named = askedLogs === null ? null : parts(askedLogs).flatMap((text) => offeredAs(all, text) ?? []).join(',') // prettier-ignore
  const logs = useMemo(
    () => new Set(named === null ? (drawn?.columns ?? []).filter(wide).map((one) => one.text) : parts(named)),
    [named, drawn],
  )
  const shown = useMemo(
    () =>
      axes.flatMap((text) => {
        const column = drawn?.columns.find((one) => one.text === text)
        const held = column?.values.some((value) => value !== null)
        const brush = brushes.get(text)
        const chosen = brush && 'names' in brush ? new Set(brush.names) : undefined
        return column && held ? [{ column, log: logs.has(text), chosen }] : []
      }),
    [drawn, axes.join(','), logs, query], // eslint-disable-line react-hooks/exhaustive-deps
  )
  const option = useCallback(() => parallelOption(drawn!, shown, selection), [drawn, shown, selection])
  const brushed = useMemo(() => intervalsOf(brushes, drawn), [query, drawn]) // eslint-disable-line react-hooks/exhaustive-deps
  const onBrush = (axis: string, intervals: [number, number][]) => {
    const column = drawn?.columns.find((one) => one.text === axis)
    if (!column) return
    // The axes stay: what differs among the runs that pass is another question.
    const after = withBrush(query, axes, axis, brushOf(column, intervals))
    changeAll({ q: after || null, axes: axes.join(',') }, false)
  }
  const clear = () => changeAll({ q: rest || null }, false)
  return (
    <Frame
      title={`Parallel coordinates of ${place.experiment}`}
      drawn={drawn}
      option={shown.length > 1 ? option : null}
      note={noteOf(page, drawn, brushes.size)}
      choices={
        <Axes all={all} axes={axes} shown={shown} logs={logs} brushes={brushes.size} onClear={clear} />
      }
    >
      {error ? (
        <p className="py-6 text-center text-xs text-bad">{error.message}</p>
      ) : shown.length < 2 ? (
        <p className="grid place-items-center text-xs text-ink3" style={{ height }}>
          {drawn ? 'Fewer than two columns have values in these runs.' : 'Reading …'}
        </p>
      ) : (
        <RunsChart
          option={option}
          name={`Parallel coordinates, ${plural(drawn?.runs.length ?? 0, 'line')}`}
          height={height}
          onOpen={byReference(drawn, onOpen)}
          brushed={brushed}
          onBrush={onBrush}
        />
      )}
    </Frame>
  )
}

function noteOf(page: RunPage, drawn: Drawn | undefined, brushes: number): string {
  const lines = drawn?.runs.length ?? 0
  if (!brushes) return `${plural(lines, 'line')}; drag along an axis to brush${beyond(drawn)}`
  const passing = `${page.count.toLocaleString('en')}${page.count_is_capped ? '+' : ''}`
  return `${passing} of ${lines} lines pass ${plural(brushes, 'brush', 'brushes')}${beyond(drawn)}`
}

function Axes(props: {
  all: Offered[]
  axes: string[]
  shown: ParallelAxis[]
  logs: Set<string>
  brushes: number
  onClear: () => void
}) {
  const { all, axes, shown, logs, brushes, onClear } = props
  const { params, change } = useAddress()
  const arranged = (after: string[]) => change('axes', after.join(',') || null)
  const turn = (text: string) => {
    const after = new Set(logs)
    if (!after.delete(text)) after.add(text)
    change('logs', [...after].join(',') || 'none')
  }
  return (
    <>
      <Choice
        name="axes"
        value=""
        options={[
          { value: '', text: `${axes.length} of ${all.length}` },
          ...all.map(({ text }) => ({ value: text, text: axes.includes(text) ? `− ${text}` : `+ ${text}` })),
        ]}
        onChange={(text) =>
          text && arranged(axes.includes(text) ? axes.filter((one) => one !== text) : [...axes, text])
        }
      />
      <Choice
        name="log"
        value=""
        options={[
          { value: '', text: logs.size ? `${logs.size} on log` : 'none' },
          ...shown
            .filter(({ column }) => isNumeric(column))
            .map(({ column: { text } }) => ({ value: text, text: `${logs.has(text) ? '✓ ' : ''}${text}` })),
        ]}
        onChange={(text) => text && turn(text)}
      />
      {brushes > 0 && (
        <button className="link" onClick={onClear}>
          Clear brushes
        </button>
      )}
      {params.has('axes') && <Tick name="own axes" on onChange={() => arranged([])} />}
    </>
  )
}
