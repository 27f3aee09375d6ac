/** Charts of exactly the runs below: a cloud, groups side by side, values over runs. One selection with the table. */
import { useCallback, useMemo } from 'react'
import { useQuery } from '@tanstack/react-query'
import { useDrawn, type Drawn, type DrawnColumn } from '../../../api/comparing'
import { groupsPage } from '../../../api/finding'
import { cutOf } from '../../../charts/drawnColumns'
import { overOption, spreadOption } from '../../../charts/runsOption'
import { RunsChart } from '../../../charts/RunsChart'
import { useAddress } from '../../../parts/selection'
import { plural, show } from '../../../parts/values'
import { lensOf } from '../LensTitle'
import { Choice, Frame, Tick } from './Frame'
import { Multiples } from './Multiples'
import { Scatter } from './Scatter'
import { panelsBy } from './multiples'
import { beyond, byReference, columnIn, Empty, saidOutside, useLensHeight, type LensProps } from './shared'
import {
  isCause,
  isGoal,
  isValue,
  offered,
  offeredAs,
  optionsOf,
  pick,
  splitsOf,
  type Offered,
} from './columnsToDraw'

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
  const height = useLensHeight()
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
          height={height}
          onOpen={byReference(drawn, onOpen)}
        />
      )}
    </Frame>
  )
}

function noteOf(
  drawn: Drawn | undefined,
  column: DrawnColumn | undefined,
  held: number,
  log: boolean,
): string {
  if (!drawn || !column) return ''
  const best = column.goal ? '; the line is the best so far' : ', no goal says which is the best'
  return `${plural(held, 'run')} with a number${saidOutside(cutOf(column, log)?.outside ?? 0)}${best}${beyond(drawn)}`
}

/** What the address asks to be split by, where it is there. */
function useSplit(all: Offered[]): string {
  const asked = useAddress().params.get('split')
  return offeredAs(all, asked) ?? ''
}

function Over({ place, page, query, sort, pareto, selection, onOpen }: LensProps) {
  const height = useLensHeight()
  const { params, change } = useAddress()
  const all = offered(page)
  const y = pick(all, params.get('ly'), isGoal, isValue)
  const split = useSplit(all)
  const log = params.get('ylog') === 'yes'
  const { data: drawn, error } = useDrawn(place.project, place.experiment, {
    column: split && split !== y ? [y, split] : [y],
    query,
    sort,
    pareto,
  })
  const column = columnIn(drawn, y)
  const by = split ? columnIn(drawn, split) : undefined
  const found = useMemo(() => (drawn && by ? panelsBy(drawn, by) : null), [drawn, by])
  const optionOf = useCallback(
    (part: Drawn) => {
      const one = columnIn(part, y)!
      const whole = part === drawn ? undefined : { drawn: drawn!, y: column! }
      return overOption(part, one, log, selection, one.goal?.bound ?? null, whole)
    },
    [drawn, column, y, log, selection],
  )
  const option = useCallback(() => optionOf(drawn!), [optionOf, drawn])
  const held = column?.values.filter((value) => typeof value === 'number').length ?? 0
  const title = `${y} over ${plural(held, 'run')}`
  return (
    <Frame
      title={`${y} over runs`}
      drawn={drawn}
      option={drawn && column ? option : null}
      note={noteOf(drawn, column, held, log)}
      choices={
        <>
          <Choice
            name="y"
            value={y}
            options={optionsOf(all.filter(isValue))}
            onChange={(value) => change('ly', value)}
          />
          <Tick name="log y" on={log} onChange={(on) => change('ylog', on ? 'yes' : null)} />
          <Choice
            name="split by"
            value={split}
            options={splitsOf(all)}
            onChange={(value) => change('split', value)}
          />
        </>
      }
    >
      {error ? (
        <Empty text={error.message} />
      ) : !drawn || !column ? (
        <Empty text="Reading …" />
      ) : held === 0 ? (
        <Empty text={`No run has a number for ${y}.`} />
      ) : found && found.panels.length > 0 ? (
        <Multiples
          by={split}
          what={title}
          found={found}
          height={height}
          optionOf={optionOf}
          onOpen={onOpen}
        />
      ) : (
        <RunsChart option={option} name={title} height={height} onOpen={byReference(drawn, onOpen)} />
      )}
    </Frame>
  )
}
