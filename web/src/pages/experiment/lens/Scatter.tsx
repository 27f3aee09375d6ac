/** A cloud of runs: any column on x, y, colour and size, and the front of a trade-off through it. */
import { useCallback, useMemo } from 'react'
import { useDrawn } from '../../../api/comparing'
import { cloudOption, outsideOf, withoutPlace, type Cloud } from '../../../charts/runsOption'
import { RunsChart } from '../../../charts/RunsChart'
import { useAddress } from '../../../parts/selection'
import { plural } from '../../../parts/values'
import { Choice, Frame, Tick } from './Frame'
import { isGoal, isSetting, isValue, offered, optionsOf, pick, type Offered } from './columnsToDraw'
import { beyond, byReference, columnIn, Empty, LENS_HEIGHT, saidOutside, type LensProps } from './shared'

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
  const known = (text: string | null) => (text !== null && all.some((one) => one.text === text) ? text : '')
  const goals = all.filter((one) => one.goal && (one.text === x || one.text === y)).length === 2
  return {
    x,
    y,
    goals,
    colour: known(params.get('lc')),
    size: known(params.get('ls')),
    logX: params.get('xlog') === 'yes',
    logY: params.get('ylog') === 'yes',
    front: goals && params.get('front') === 'yes',
  }
}

type AskedCloud = ReturnType<typeof useAskedCloud>

function useCloud(asked: AskedCloud, { place, query, sort, pareto, selection }: LensProps) {
  const { x, y, colour, size, logX, logY, front } = asked
  const column = [...new Set([x, y, colour, size].filter(Boolean))]
  const { data: drawn, error } = useDrawn(place.project, place.experiment, { column, query, sort, pareto })
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
    }
  }, [drawn, x, y, colour, size, logX, logY, selection, front, onFront])
  return { cloud, error }
}

export function Scatter(props: LensProps) {
  const all = offered(props.page)
  const asked = useAskedCloud(all)
  const { cloud, error } = useCloud(asked, props)
  const option = useCallback(() => cloudOption(cloud!), [cloud])
  const count = cloud?.drawn.runs.length ?? 0
  const missing = cloud ? withoutPlace(cloud) : 0
  const { x, y } = asked
  return (
    <Frame
      title={`${y} by ${x}`}
      drawn={cloud?.drawn}
      option={cloud ? option : null}
      note={cloud ? noteOf(cloud, count, missing) : ''}
      choices={<Choices all={all} asked={asked} pareto={props.pareto} />}
    >
      {error || !cloud ? (
        <Empty text={error?.message ?? 'Reading …'} />
      ) : missing === count ? (
        <Empty text={`No run has both ${x} and ${y}${asked.logX || asked.logY ? ' above zero' : ''}.`} />
      ) : (
        <RunsChart
          option={option}
          name={`${y} by ${x}, ${plural(count - missing, 'run')}`}
          height={LENS_HEIGHT}
          onOpen={byReference(cloud.drawn, props.onOpen)}
        />
      )}
    </Frame>
  )
}

function noteOf(cloud: Cloud, count: number, missing: number): string {
  const { drawn, front } = cloud
  const left = missing ? `, ${missing} without a place` : ''
  return `${plural(count - missing, 'run')}${left}${saidOutside(outsideOf(cloud))}${front ? `, ${front.size} on the front` : ''}${beyond(drawn)}`
}

function Choices({ all, asked, pareto }: { all: Offered[]; asked: AskedCloud; pareto: string }) {
  const { change, changeAll } = useAddress()
  const { x, y, colour, size, logX, logY, goals, front } = asked
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
    </>
  )
}
