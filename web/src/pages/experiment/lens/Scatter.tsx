/** A cloud of runs: any column on x, y, colour and size, and the front of a trade-off through it; a field drawn in it is a term of the query. */
import { useCallback, useMemo } from 'react'
import { useDrawn, type Drawn, type DrawnColumn } from '../../../api/comparing'
import { isNumeric, levelsOf, numberAt } from '../../../charts/drawnColumns'
import { cloudOption, outsideOf, withoutPlace, type Cloud } from '../../../charts/runsOption'
import { RunsChart } from '../../../charts/RunsChart'
import { useAddress } from '../../../parts/selection'
import { plural } from '../../../parts/values'
import { Choice, Frame, Tick } from './Frame'
import { Multiples } from './Multiples'
import { readBrushes, rounded, withBrush, type Brush } from './brushes'
import {
  isGoal,
  isSetting,
  isValue,
  offered,
  offeredAs,
  optionsOf,
  pick,
  splitsOf,
  type Offered,
} from './columnsToDraw'
import { panelsBy } from './multiples'
import { beyond, byReference, columnIn, Empty, saidOutside, useLensHeight, type LensProps } from './shared'

/** What the address asks the cloud to be. */
function useAskedCloud(all: Offered[]) {
  const { params } = useAddress()
  const y = pick(all, params.get('ly'), isGoal, isValue)
  const x = pick(
    all,
    params.get('lx'),
    (one) => one.goal && one.text !== y,
    isSetting,
    ({ text }) => text === 'number',
  )
  const known = (text: string | null) => offeredAs(all, text) ?? ''
  const goals = all.filter((one) => one.goal && (one.text === x || one.text === y)).length === 2
  return {
    x,
    y,
    goals,
    colour: known(params.get('lc')),
    size: known(params.get('ls')),
    split: known(params.get('split')),
    logX: params.get('xlog') === 'yes',
    logY: params.get('ylog') === 'yes',
    front: goals && params.get('front') === 'yes',
  }
}

type AskedCloud = ReturnType<typeof useAskedCloud>

function useCloud(asked: AskedCloud, { place, query, sort, pareto, selection }: LensProps) {
  const { x, y, colour, size, split, logX, logY, front } = asked
  const column = [...new Set([x, y, colour, size, split].filter(Boolean))]
  const { brushes, rest } = useMemo(() => readBrushes(query, [x, y]), [query, x, y])
  const { data: drawn, error } = useDrawn(place.project, place.experiment, {
    column,
    query: rest,
    sort,
    pareto,
  })
  const onFront = useDrawn(place.project, place.experiment, {
    column: front ? column : [], query, sort, pareto: pareto || `${x},${y}`,
  }).data // prettier-ignore
  const cloud = useMemo<Cloud | null>(() => {
    const [columnX, columnY] = [columnIn(drawn, x), columnIn(drawn, y)]
    if (!drawn || !columnX || !columnY) return null
    return {
      drawn,
      x: columnX,
      y: columnY,
      colour: columnIn(drawn, colour) ?? null,
      size: columnIn(drawn, size) ?? null,
      logX,
      logY,
      slots: selection,
      front: front && onFront ? new Set(onFront.runs.map((run) => run.number)) : null,
      asked: { x: brushes.get(x) ?? null, y: brushes.get(y) ?? null },
    }
  }, [drawn, x, y, colour, size, logX, logY, selection, front, onFront, brushes])
  return { cloud, error, brushes, rest }
}

/** A stretch of an axis, drawn by hand, as a term of the query. */
function brushOf(column: DrawnColumn, [low, high]: [number, number], log: boolean): Brush | null {
  if (!isNumeric(column)) {
    const names = levelsOf(column).filter((_, at) => at >= low - 0.5 && at <= high + 0.5)
    return names.length ? { names } : null
  }
  const numbers = column.values.map((_, at) => numberAt(column, at)).filter((value) => value !== null)
  return rounded(low, high, log ? low : Math.max(...numbers) - Math.min(...numbers))
}

export function Scatter(props: LensProps) {
  const all = offered(props.page)
  const asked = useAskedCloud(all)
  const { changeAll } = useAddress()
  const { cloud, error, brushes, rest } = useCloud(asked, props)
  const option = useCallback(() => cloudOption(cloud!), [cloud])
  const height = useLensHeight()
  const count = cloud?.drawn.runs.length ?? 0
  const missing = cloud ? withoutPlace(cloud) : 0
  const { x, y, split } = asked
  const title = `${y} by ${x}`
  const onField = (stretchX: [number, number], stretchY: [number, number]) => {
    if (!cloud) return
    const first = withBrush(props.query, [x, y], x, brushOf(cloud.x, stretchX, asked.logX))
    changeAll(
      { q: withBrush(first, [x, y], y, brushOf(cloud.y, stretchY, asked.logY)) || null, lx: x, ly: y },
      false,
    )
  }
  const clear = brushes.size > 0 ? () => changeAll({ q: rest || null }, false) : null
  return (
    <Frame
      title={title}
      drawn={cloud?.drawn}
      option={cloud ? option : null}
      note={noteOf(cloud, count, missing, brushes.size ? props.page.count : null)}
      choices={<Choices all={all} asked={asked} pareto={props.pareto} onClear={clear} />}
    >
      {error || !cloud ? (
        <Empty text={error?.message ?? 'Reading …'} />
      ) : missing === count ? (
        <Empty text={`No run has both ${x} and ${y}${asked.logX || asked.logY ? ' above zero' : ''}.`} />
      ) : split ? (
        <Clouds cloud={cloud} asked={asked} height={height} onOpen={props.onOpen} />
      ) : (
        <RunsChart
          option={option}
          name={`${title}, ${plural(count - missing, 'run')}`}
          height={height}
          onOpen={byReference(cloud.drawn, props.onOpen)}
          onField={onField}
        />
      )}
    </Frame>
  )
}

type CloudsProps = { cloud: Cloud; asked: AskedCloud; height: number; onOpen: (reference: string) => void }

function Clouds({ cloud, asked, height, onOpen }: CloudsProps) {
  const { x, y, colour, size, split } = asked
  const by = columnIn(cloud.drawn, split)
  const found = useMemo(() => (by ? panelsBy(cloud.drawn, by) : null), [cloud.drawn, by])
  const optionOf = useCallback(
    (drawn: Drawn) =>
      cloudOption({
        ...cloud,
        drawn,
        x: columnIn(drawn, x)!,
        y: columnIn(drawn, y)!,
        colour: columnIn(drawn, colour) ?? null,
        size: columnIn(drawn, size) ?? null,
        whole: cloud,
      }),
    [cloud, x, y, colour, size],
  )
  return !found || found.panels.length === 0 ? (
    <Empty text={`No run has a value for ${split}.`} />
  ) : (
    <Multiples
      by={split}
      what={`${y} by ${x}`}
      found={found}
      height={height}
      optionOf={optionOf}
      onOpen={onOpen}
    />
  )
}

function noteOf(cloud: Cloud | null, count: number, missing: number, passing: number | null): string {
  if (!cloud) return ''
  const { drawn, front } = cloud
  const passed = passing === null ? '' : `${passing.toLocaleString('en')} pass the brush of `
  const left = missing ? `, ${missing} without a place` : ''
  return `${passed}${plural(count - missing, 'run')}${left}${saidOutside(outsideOf(cloud))}${front ? `, ${front.size} on the front` : ''}${beyond(drawn)}`
}

type ChoicesProps = { all: Offered[]; asked: AskedCloud; pareto: string; onClear: (() => void) | null }

function Choices({ all, asked, pareto, onClear }: ChoicesProps) {
  const { change, changeAll } = useAddress()
  const { x, y, colour, size, split, logX, logY, goals, front } = asked
  const options = optionsOf(all)
  const none = [{ value: '', text: 'none' }, ...options]
  const yes = (on: boolean) => (on ? 'yes' : null)
  return (
    <>
      <Choice name="x" value={x} options={options} onChange={(value) => change('lx', value)} />
      <Tick name="log x" on={logX} onChange={(on) => change('xlog', yes(on))} />
      <Choice name="y" value={y} options={options} onChange={(value) => change('ly', value)} />
      <Tick name="log y" on={logY} onChange={(on) => change('ylog', yes(on))} />
      <Choice name="colour" value={colour} options={none} onChange={(value) => change('lc', value)} />
      <Choice name="size" value={size} options={none} onChange={(value) => change('ls', value)} />
      <Choice
        name="split by"
        value={split}
        options={splitsOf(all)}
        onChange={(value) => change('split', value)}
      />
      {goals && (
        <Tick
          name="trade-off"
          title="The runs that no other beats in both"
          on={front}
          onChange={(on) => change('front', yes(on))}
        />
      )}
      {front && !pareto && (
        <button className="link" onClick={() => changeAll({ pareto: `${x},${y}` }, false)}>
          only these in the table
        </button>
      )}
      {onClear && (
        <button className="link" onClick={onClear}>
          Clear brush
        </button>
      )}
    </>
  )
}
