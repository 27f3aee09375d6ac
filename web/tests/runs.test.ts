/** Columns of many runs: which are shown, how they look, and what charts make of them. */
import { describe, expect, it, test } from 'vitest'
import { commonStretch, cutOf, isNumeric, levelsOf, nameOf, shownAt } from '../src/charts/drawnColumns'
import { parallelOption } from '../src/charts/parallelOption'
import {
  cloudOption,
  outsideOf,
  overOption,
  spreadOption,
  withoutPlace,
  type Cloud,
} from '../src/charts/runsOption'
import { scaleOf } from '../src/charts/Trend'
import { COLUMNS_SHOWN, columnsOf, columnText, keysOf } from '../src/pages/experiment/columns'
import {
  axesOf,
  offered,
  offeredAs,
  pick,
  isGoal,
  splitsOf,
} from '../src/pages/experiment/lens/columnsToDraw'
import { panelsBy } from '../src/pages/experiment/lens/multiples'
import { cellOf, NAME_WIDTH, shapesOf, written, type Shape } from '../src/pages/experiment/table/shapes'
import { columnOf, drawnOf, goalOf, pageOf } from './made'

const NAN = { float: 'NaN' }
const runOf = (number: number, values = {}, params = {}, more = {}) => ({
  reference: `e/${number}`, number, name: null, status: 'finished', params, values, labels: {}, metrics: {},
  problems: [], started_at: '2024-05-03T12:00:00Z', ended_at: '2024-05-03T12:01:30Z', parent: null, complete: true,
  ...more,
}) // prettier-ignore

describe('the name of a column', () => {
  const known = [
    { scope: 'param', name: 'loss' },
    { scope: 'value', name: 'loss' },
    { scope: 'param', name: 'status' },
    { scope: 'label', name: 'purpose' },
    { scope: 'param', name: 'two words' },
  ]
  it.each([
    ['param', 'loss', undefined, 'param:loss'],
    ['value', 'loss', undefined, 'metric:loss'],
    ['value', 'loss', 'min', 'min(loss)'],
    ['param', 'status', undefined, 'param:status'],
    ['field', 'status', undefined, 'status'],
    ['label', 'purpose', undefined, 'label:purpose'],
    ['param', 'two words', undefined, '"two words"'],
  ])('%s %s %s is %s', (scope, name, aggregate, wanted) => {
    expect(columnText({ scope, name, aggregate }, known)).toBe(wanted)
  })
})

describe('columns of a page', () => {
  it('are by default the settings that differ, then values with goals, then others; equal ones are counted', () => {
    const page = pageOf(
      [
        ['param', 'depth'],
        ['param', 'learner', false],
        ['param', 'space.depth'],
        ['value', 'loss'],
        ['value', 'recall'],
        ['label', 'purpose'],
      ],
      { goals: [goalOf('recall', 'higher')] },
    )
    const { columns, equal, others } = columnsOf(page)
    expect(columns.map((column) => column.text)).toEqual(['depth', 'recall', 'loss'])
    expect([equal, others]).toEqual([1, 2])
  })
  it('are those that were asked for, with the goals of values', () => {
    const page = pageOf([['value', 'recall']], {
      goals: [goalOf('recall', 'higher')],
      chosen: [
        { scope: 'value', name: 'recall', aggregate: null, text: 'recall' },
        { scope: 'field', name: 'host', aggregate: null, text: 'host' },
      ],
    })
    const { columns } = columnsOf(page)
    expect(columns.map((column) => [column.text, column.goal?.key])).toEqual([
      ['recall', 'recall'],
      ['host', undefined],
    ])
  })
  it('keep values with goals however many settings come before them', () => {
    const settings = Array.from({ length: 80 }, (_, at): [string, string] => ['param', `p${at}`])
    const page = pageOf([...settings, ['value', 'recall']], { goals: [goalOf('recall', 'higher')] })
    const { columns, others } = columnsOf(page)
    expect(columns).toHaveLength(COLUMNS_SHOWN)
    expect(columns.at(-1)?.name).toBe('recall')
    expect(others).toBe(21)
  })
  it('of curves are those with points, unless rows do not tell of all', () => {
    const known: [string, string][] = [
      ['value', 'loss'],
      ['value', 'verdict'],
    ]
    const rows = [runOf(1, {}, {}, { metrics: { loss: {} } })]
    expect(keysOf(pageOf(known, { rows } as never), true).map((key) => key.name)).toEqual(['loss'])
    const partly = { rows: [{ ...rows[0], complete: false }] } as never
    expect(keysOf(pageOf(known, partly), true).map((key) => key.name)).toEqual(['loss', 'verdict'])
  })
})

describe('what charts offer', () => {
  const page = pageOf(
    [
      ['param', 'depth'],
      ['param', 'fold'],
      ['param', 'learner', false],
      ['value', 'recall'],
      ['value', 'loss'],
      ['label', 'purpose'],
    ],
    { goals: [goalOf('recall', 'higher')], seeds: ['fold'] },
  )
  const all = offered(page)
  it('are axes without seeds: they explain nothing', () => {
    expect(axesOf(all)).toEqual(['depth', 'recall'])
    expect(axesOf(offered({ ...page, seeds: ['seed'] }))).toEqual(['depth', 'fold', 'recall'])
  })
  it('of one run is all that was set', () => {
    const one = pageOf([
      ['param', 'depth', false],
      ['value', 'loss'],
    ])
    expect(axesOf(offered(one))).toEqual(['depth', 'loss'])
  })
  it('finds what an address names, with its scope or without', () => {
    expect([
      offeredAs(all, 'recall'),
      offeredAs(all, 'metric:recall'),
      offeredAs(all, 'param:depth'),
    ]).toEqual(['recall', 'recall', 'depth'])
    expect([offeredAs(all, null), offeredAs(all, 'param:recall'), offeredAs(all, 'x')]).toEqual(
      [undefined, undefined, undefined],
    ) // prettier-ignore
    expect([pick(all, 'loss', isGoal), pick(all, 'gone', isGoal), pick([], null)]).toEqual([
      'loss',
      'recall',
      'number',
    ])
  })
  it('splits by settings that differ, labels and a few fields', () => {
    expect(splitsOf(all).map((one) => one.value)).toEqual([
      '',
      'depth',
      'label:purpose',
      'status',
      'author',
      'host',
    ])
  })
})

describe('how columns look', () => {
  const goal = goalOf('recall', 'higher')
  const rows = [
    runOf(1, { recall: 0.91349 }, { depth: 4, learner: 'forest' }),
    runOf(2, { recall: 0.5 }, { depth: 12 }),
    runOf(3, { recall: NAN }, { depth: 'deep' }, { ended_at: null }),
  ]
  const page = pageOf([], { rows } as never)
  const shapes = (...columns: object[]) =>
    shapesOf(columns as never, page, undefined, ['learner'], new Map([['depth', 222]]))
  it('numbers stand to the right with aligned decimals, others do not', () => {
    const [learner, recall, depth] = shapes(
      { scope: 'value', name: 'recall', text: 'recall', goal },
      { scope: 'param', name: 'depth', text: 'depth' },
      { scope: 'param', name: 'learner', text: 'learner' },
    ) as [Shape, Shape, Shape]
    expect([recall.numeric, recall.decimals, depth.numeric]).toEqual([true, 3, false])
    expect(written(recall, 0.5)).toBe('0.500')
    expect(written(recall, undefined)).toBe('–')
    // Pinned ones come first, beside the name; widths that were dragged stay.
    expect([learner.name, learner.pinned, learner.left, depth.width]).toEqual([
      'learner',
      true,
      NAME_WIDTH,
      222,
    ])
  })
  it('fields are read off the run', () => {
    const field = (name: string) => ({ scope: 'field', name, text: name }) as never
    const run = rows[0] as never
    const [duration, ended] = shapes(field('duration'), field('ended')) as [Shape, Shape]
    expect([cellOf(run, field('duration')), written(duration, 90)]).toEqual([90, '1 min 30 s'])
    expect(cellOf(rows[2] as never, field('duration'))).toBeUndefined()
    expect(written(ended, '2024-05-03T12:01:30Z')).toMatch(/^3 May/)
    expect(cellOf(run, field('name'))).toBeUndefined()
    expect(
      cellOf({ ...rows[0], problems: [{ text: 'late' }, { text: 'lost' }] } as never, field('problem')),
    ).toBe('late; lost')
    expect(cellOf({ ...rows[0], parent_id: 'x' } as never, field('parent'))).toBe('x')
    expect(written({ ...ended, name: 'commit' }, '4f2a9c1d8e7b6a5')).toBe('4f2a9c1d8e')
  })
  it('aggregates come from the metric', () => {
    const run = runOf(1, {}, {}, { metrics: { loss: { min: 0.1, last: 0.3 } } }) as never
    expect(cellOf(run, { scope: 'value', name: 'loss', aggregate: 'min', text: 'min(loss)' } as never)).toBe(
      0.1,
    )
  })
})

test('a trend is scaled to the middle, however wild one run is', () => {
  const calm = Array.from({ length: 100 }, (_, at) => at / 100)
  const scale = scaleOf(
    [
      { steps: [9], values: calm },
      { steps: [40], values: [1e9, null] },
    ],
    0.9,
  )!
  expect(scale.high).toBeLessThanOrEqual(1)
  expect([scale.steps, scale.leader]).toEqual([40, 0.9])
  expect(scaleOf([{ steps: [], values: [null] }], null)).toBeNull()
})

describe('columns of charts', () => {
  it('are numbers, or names in order', () => {
    expect(isNumeric(columnOf('a', [1, null, NAN]))).toBe(true)
    expect(isNumeric(columnOf('a', [null]))).toBe(false)
    expect(levelsOf(columnOf('a', ['b', 'a', null, 'b']))).toEqual(['a', 'b'])
    expect(levelsOf(columnOf('a', [10, 9, 100]))).toEqual(['9', '10', '100'])
    expect(shownAt(columnOf('a', ['x', null]), 1, false)).toBeNull()
    expect([shownAt(columnOf('a', [0]), 0, true), shownAt(columnOf('a', [NAN]), 0, false)]).toEqual([
      null,
      null,
    ])
    expect(nameOf(columnOf('loss', [], { aggregate: 'min', goal: goalOf('loss', 'lower', '%') }))).toBe(
      'min(loss) ↓ %',
    )
  })
  it('cut a few far values, and say how many', () => {
    const many = Array.from({ length: 50 }, (_, at) => at / 50)
    const cut = cutOf(columnOf('a', [...many, 1e6]), false)!
    expect(cut.outside).toBe(1)
    expect(cut.high).toBeLessThan(2)
    expect(cutOf(columnOf('a', [...many, 1e6]), true)).toBeNull()
    expect(cutOf(columnOf('a', many), false)).toBeNull()
    expect(cutOf(columnOf('a', ['x', 'y']), false)).toBeNull()
  })
  it('share one stretch over several charts', () => {
    expect(commonStretch(columnOf('a', [0, 10]), false)).toEqual({ low: -0.6, high: 10.6, outside: 0 })
    expect(commonStretch(columnOf('a', [5, 5]), false)).toEqual({ low: 4.7, high: 5.3, outside: 0 })
    expect(commonStretch(columnOf('a', [0, 0]), false)).toEqual({ low: -1, high: 1, outside: 0 })
    const log = commonStretch(columnOf('a', [-1, 1, 100]), true)!
    expect([log.low, log.high].map((end) => Math.round(end * 100))).toEqual([87, 11500])
    expect([commonStretch(columnOf('a', [null]), false), commonStretch(columnOf('a', ['x']), false)]).toEqual(
      [null, null],
    )
  })
})

test('small multiples are one part for each value, in order; who has none is counted', () => {
  const by = columnOf('learner', ['forest', 'boost', null, 'boost'])
  const { panels, leftOut, without } = panelsBy(drawnOf(by, columnOf('recall', [1, 2, 3, 4])), by)
  expect(
    panels.map(({ name, drawn }) => [name, drawn.runs.map((run) => run.number), drawn.columns[1]!.values]),
  ).toEqual([
    ['boost', [2, 4], [2, 4]],
    ['forest', [1], [1]],
  ])
  expect([leftOut, without]).toEqual([0, 1])
  const many = columnOf(
    'p',
    Array.from({ length: 15 }, (_, at) => at),
  )
  expect(panelsBy(drawnOf(many), many)).toMatchObject({ leftOut: 3, without: 0 })
})

type Option = {
  series: { type: string; data: never[] }[]
  xAxis: { type: string; min?: number; max?: number }
}

describe('a cloud of runs', () => {
  const [x, y] = [columnOf('depth', [1, 2, 3, null]), columnOf('recall', [0.1, NAN, 0.3, 0.4])]
  const cloud = (more: Partial<Cloud> = {}): Cloud => ({
    drawn: drawnOf(x, y), x, y, colour: null, size: null, logX: false, logY: false, slots: new Map([['1', 1]]),
    front: null, ...more,
  }) // prettier-ignore
  const dots = (given: Cloud) =>
    (cloudOption(given) as unknown as Option).series.find((one) => one.type === 'scatter')!.data as unknown as
      { value: number[]; at: number; symbolSize: number; itemStyle: { color: string; opacity: number } }[] // prettier-ignore
  it('draws runs that have both, and counts the others', () => {
    expect(dots(cloud()).map((dot) => dot.value)).toEqual([[1, 0.1], [3, 0.3]]) // prettier-ignore
    expect(withoutPlace(cloud())).toBe(2)
    expect(outsideOf(cloud())).toBe(0)
    expect(withoutPlace(cloud({ logX: true, x: columnOf('depth', [-1, 0, 3, 4]) }))).toBe(2)
  })
  it('shows colour and size of numbers by where they lie, of names by a colour each', () => {
    const shaded = dots(cloud({ colour: columnOf('c', [0, 0, 10, 0]), size: columnOf('s', [5, 5, 9, 5]) }))
    expect(shaded.map((dot) => dot.itemStyle.color)).toEqual(['rgb(221,221,221)', 'rgb(17,34,51)'])
    expect(shaded[1]!.symbolSize).toBeGreaterThan(shaded[0]!.symbolSize)
    const named = dots(cloud({ colour: columnOf('l', ['b', 'a', 'a', 'a']), slots: new Map() }))
    expect(named).toHaveLength(2)
  })
  it('pales what the query does not ask for, and draws its field', () => {
    const asked = { x: { low: 2.5, high: 9 }, y: null }
    expect(dots(cloud({ asked })).map((dot) => dot.itemStyle.opacity)).toEqual([0.2, 0.75])
    const field = (
      cloudOption(cloud({ asked })) as unknown as { series: { markArea?: { data: object[][] } }[] }
    ).series
    expect(field[1]!.markArea!.data).toEqual([[{ xAxis: 2.5 }, { xAxis: 9 }]])
    const names = { x: { names: ['1'] }, y: null }
    expect(dots(cloud({ asked: names })).map((dot) => dot.itemStyle.opacity)).toEqual([1, 0.2])
  })
  it('joins the front in its order', () => {
    const front = (cloudOption(cloud({ front: new Set([3, 1]) })) as unknown as Option).series[0]!
    expect(front.data).toEqual([[1, 0.1], [3, 0.3]]) // prettier-ignore
  })
  it('names categories along its axis', () => {
    const option = cloudOption(cloud({ x: columnOf('learner', ['b', 'a', 'b', null]) })) as unknown as Option
    expect(option.xAxis.type).toBe('category')
  })
})

describe('values over runs', () => {
  const y = (direction: 'higher' | 'lower', values: unknown[]) =>
    columnOf('recall', values, { goal: goalOf('recall', direction) })
  const best = (column: ReturnType<typeof columnOf>, bound: number | null = null) =>
    (overOption(drawnOf(column), column, false, new Map(), bound) as unknown as Option).series[1]!
  it('carry the best so far to the end, whichever way is better', () => {
    expect(best(y('higher', [0.5, 0.4, 0.9, 0.7])).data).toEqual([[1, 0.5], [3, 0.9], [4, 0.9]]) // prettier-ignore
    expect(best(y('lower', [0.5, NAN, 0.9, 0.1])).data).toEqual([[1, 0.5], [4, 0.1]]) // prettier-ignore
    expect(best(columnOf('depth', [3, 4])).data).toEqual([])
  })
  it('show the bound of the goal', () => {
    expect(best(y('higher', [1]), 0.9)).toHaveProperty('markLine.data', [{ yAxis: 0.9 }])
    expect(best(y('higher', [1]))).not.toHaveProperty('markLine')
  })
})

test('groups side by side: every run over its group, mean and one deviation to each side', () => {
  const [by, y] = [columnOf('learner', ['a', 'b', 'a', null]), columnOf('recall', [1, 2, 3, 4])]
  const groups = [
    { name: 'a', mean: 2, deviation: 1.4, runs: 2 },
    { name: 'b', mean: 2, deviation: null, runs: 1 },
  ]
  const { series } = spreadOption(drawnOf(by, y), by, y, groups, false, new Map()) as unknown as Option
  const dots = series[0]!.data as unknown as { value: number[] }[]
  expect(dots.map(({ value: [x, v] }) => [Math.round(x!) + 0, v])).toEqual([[0, 1], [1, 2], [0, 3]]) // prettier-ignore
  expect(dots[0]!.value[0]).not.toBe(dots[2]!.value[0])
  // Two means, and one line of a deviation: one run has none.
  expect(series.slice(1)).toHaveLength(3)
})

test('parallel coordinates turn axes so that better is up', () => {
  const [depth, loss] = [
    columnOf('depth', [1, 2]),
    columnOf('loss', [0.1, null], { goal: goalOf('loss', 'lower') }),
  ]
  const learner = columnOf('learner', ['b', 'a'])
  const axes = [
    { column: depth, log: true },
    { column: learner, log: false, chosen: new Set(['a']) },
    { column: loss, log: false },
  ]
  const option = parallelOption(drawnOf(depth, learner, loss), axes, new Map([['2', 1]])) as unknown as {
    parallelAxis: { type: string; inverse?: boolean; name: string; data?: unknown[] }[]
    series: { data: { value: unknown[] }[] }[]
  }
  expect(option.parallelAxis.map(({ type, inverse, name }) => [type, inverse, name])).toEqual([
    ['log', false, 'depth (log)'],
    ['category', undefined, 'learner'],
    ['value', true, 'loss ↓'],
  ])
  expect(option.parallelAxis[1]!.data![0]).toHaveProperty('value', 'a')
  expect(option.series.map((one) => one.data.map((line) => line.value))).toEqual([
    [[1, 'b', 0.1]],
    [[2, 'a', '-']],
  ])
})
