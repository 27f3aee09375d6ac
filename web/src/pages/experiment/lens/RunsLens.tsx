/** Charts of exactly the runs below: a cloud, groups side by side, values over runs. One selection with the table. */
import { useCallback, useMemo } from 'react'
import { useQuery } from '@tanstack/react-query'
import { useDrawn } from '../../../api/comparing'
import { groupsPage } from '../../../api/finding'
import { cutOf } from '../../../charts/drawnColumns'
import { overOption, spreadOption } from '../../../charts/runsOption'
import { RunsChart } from '../../../charts/RunsChart'
import { useAddress } from '../../../parts/selection'
import { plural, show } from '../../../parts/values'
import { lensOf } from '../LensTitle'
import { Choice, Frame, Tick } from './Frame'
import { Scatter } from './Scatter'
import { beyond, byReference, columnIn, Empty, LENS_HEIGHT, saidOutside, type LensProps } from './shared'
import { isCause, isGoal, isValue, offered, optionsOf, pick } from './columnsToDraw'

export default function RunsLens(props: LensProps) {
  const { params } = useAddress()
  const kind = lensOf(params)
  return kind === 'spread' ? (
    <Spread {...props} />
  ) : kind === 'over' ? (
    <Over {...props} />
  ) : (
    <Scatter {...props} />
  )
}

function Spread({ place, page, query, sort, pareto, selection, onOpen }: LensProps) {
  const { params, change } = useAddress()
  const all = offered(page)
  const y = pick(all, params.get('ly'), isGoal, isValue)
  const by = pick(all, params.get('by'), isCause, (one) => one.text === 'status')
  const log = params.get('ylog') === 'yes'
  const { data: drawn, error } = useDrawn(place.project, place.experiment, {
    column: [by, y],
    query,
    sort,
    pareto,
  })
  const grouped = useQuery(
    groupsPage(
      place.project,
      place.experiment,
      by,
      { query, sort: '', column: [y], fold: false, key: [], pareto },
      0,
    ),
  )
  const [columnBy, columnY] = [columnIn(drawn, by), columnIn(drawn, y)]
  const groups = useMemo(
    () =>
      (grouped.data?.groups ?? [])
        .flatMap((group) => {
          const cell = group.cells[0]
          const mean = cell?.spread?.mean ?? (typeof cell?.shared === 'number' ? cell.shared : null)
          const name = group.present ? show(group.value) : '–'
          return mean === null
            ? []
            : [{ name, mean, deviation: cell?.spread?.deviation ?? null, runs: group.runs }]
        })
        .sort((a, b) => Number(a.name) - Number(b.name) || a.name.localeCompare(b.name)),
    [grouped.data],
  )
  const option = useCallback(
    () => spreadOption(drawn!, columnBy!, columnY!, groups, log, selection),
    [drawn, columnBy, columnY, groups, log, selection],
  )
  const ready = drawn && columnBy && columnY && grouped.data
  return (
    <Frame
      title={`${y} per ${by}`}
      drawn={drawn}
      option={ready ? option : null}
      note={`${plural(groups.length, 'group')}; mean and one standard deviation${columnY ? saidOutside(cutOf(columnY, log)?.outside ?? 0) : ''}${beyond(drawn)}`}
      choices={
        <>
          <Choice
            name="y"
            value={y}
            options={optionsOf(all.filter(isValue))}
            onChange={(value) => change('ly', value)}
          />
          <Tick name="log y" on={log} onChange={(on) => change('ylog', on ? 'yes' : null)} />
          <Choice name="per" value={by} options={optionsOf(all)} onChange={(value) => change('by', value)} />
        </>
      }
    >
      {(error ?? grouped.error) ? (
        <Empty text={(error ?? grouped.error)?.message ?? ''} />
      ) : !ready ? (
        <Empty text="Reading …" />
      ) : groups.length === 0 ? (
        <Empty text={`No run has a number for ${y}.`} />
      ) : (
        <RunsChart
          option={option}
          name={`${y} per ${by}, ${plural(groups.length, 'group')}`}
          height={LENS_HEIGHT}
          onOpen={byReference(drawn, onOpen)}
        />
      )}
    </Frame>
  )
}

function Over({ place, page, query, sort, pareto, selection, onOpen }: LensProps) {
  const { params, change } = useAddress()
  const all = offered(page)
  const y = pick(all, params.get('ly'), isGoal, isValue)
  const log = params.get('ylog') === 'yes'
  const { data: drawn, error } = useDrawn(place.project, place.experiment, {
    column: [y],
    query,
    sort,
    pareto,
  })
  const column = columnIn(drawn, y)
  const option = useCallback(
    () => overOption(drawn!, column!, log, selection, column?.goal?.bound ?? null),
    [drawn, column, log, selection],
  )
  const held = column?.values.filter((value) => typeof value === 'number').length ?? 0
  return (
    <Frame
      title={`${y} over runs`}
      drawn={drawn}
      option={drawn && column ? option : null}
      note={`${plural(held, 'run')} with a number${column ? saidOutside(cutOf(column, log)?.outside ?? 0) : ''}${column?.goal ? '; the line is the best so far' : ', no goal says which is the best'}${beyond(drawn)}`}
      choices={
        <>
          <Choice
            name="y"
            value={y}
            options={optionsOf(all.filter(isValue))}
            onChange={(value) => change('ly', value)}
          />
          <Tick name="log y" on={log} onChange={(on) => change('ylog', on ? 'yes' : null)} />
        </>
      }
    >
      {error ? (
        <Empty text={error.message} />
      ) : !drawn || !column ? (
        <Empty text="Reading …" />
      ) : held === 0 ? (
        <Empty text={`No run has a number for ${y}.`} />
      ) : (
        <RunsChart
          option={option}
          name={`${y} over ${plural(held, 'run')}`}
          height={LENS_HEIGHT}
          onOpen={byReference(drawn, onOpen)}
        />
      )}
    </Frame>
  )
}
