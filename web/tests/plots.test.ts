/** Plots laid over one another, and a model's stages through time. */
import { describe, expect, it, test } from 'vitest'
import { isEmpty, leftOut, legendOf, matrixOption, optionOf, type Drawn } from '../src/charts/plotOption'
import { staysOf } from '../src/pages/model/stays'

const VIEW = {
  mark: 'line', x: 'rate', y: ['hits'], x_name: '', y_name: '', x_scale: 'linear', y_scale: 'linear', diagonal: false,
  share: 'count', title: '', group: null,
} // prettier-ignore
type Points = [x: (number | string)[], y: number[]]

const drawnOf = (view: object, ...runs: Points[][]): Drawn =>
  ({
    slots: runs.map((_, at) => at + 1),
    names: runs.map((_, at) => `try ${at + 1}`),
    plots: {
      places: [],
      plots: runs.map((_, at) => ({
        run: `e/${at + 1}`,
        view: { ...VIEW, ...view },
        matrix: null,
        note: '',
      })),
      series: runs.flatMap((all, of) => all.map(([x, y], at) => ({ of, name: `e/${of + 1} ${at}`, x, y }))),
    },
  }) as unknown as Drawn

type Option = {
  series: { type: string; data: unknown[]; step?: unknown; lineStyle?: { type: unknown } }[]
  xAxis: { type: string; data?: string[]; axisLabel: { rotate: number; interval: number } }
  legend?: { data: string[] }
  tooltip: { formatter: (found: { value: number[] }) => string; trigger: string }
}
const option = (drawn: Drawn, title: string | null = null) => optionOf(drawn, title) as unknown as Option

describe('the look of series', () => {
  it('of one run is one each', () => {
    expect(legendOf(drawnOf({}, [[[0], [1]], [[0], [2]]])).map(({ slot }) => slot)).toEqual([1, 2]) // prettier-ignore
  })
  it('of several runs is the colour of the run, with a dash for each of its series', () => {
    const legend = legendOf(drawnOf({}, [[[0], [1]], [[0], [2]]], [[[0], [3]]])) // prettier-ignore
    expect(legend.map(({ slot, dash, name }) => [slot, dash.length > 0, name])).toEqual([
      [1, false, 'try 1 0'],
      [1, true, 'try 1 1'],
      [2, true, 'try 2 0'],
    ])
  })
  it('of bars is paler for further columns', () => {
    const legend = legendOf(drawnOf({ mark: 'bars' }, [[[0], [1]], [[0], [2]]], [[[0], [3]]])) // prettier-ignore
    expect(legend.map(({ tone }) => tone)).toEqual([1, 0.65, 1])
  })
})

describe('a plot', () => {
  it('leaves out what a log scale cannot show, and counts it', () => {
    const drawn = drawnOf({ y_scale: 'log', x_scale: 'log' }, [[[1, 0, 2, 3], [5, 5, -1, 7]]]) // prettier-ignore
    expect(leftOut(drawn)).toBe(2)
    expect(option(drawn).series[0]!.data).toEqual([[1, 5], [3, 7]]) // prettier-ignore
  })
  it('is drawn as line, steps, points or bars', () => {
    const kinds = ['line', 'steps', 'points', 'bars'].map((mark) => option(drawnOf({ mark }, [[[0, 1], [1, 2]]])).series[0]!) // prettier-ignore
    expect(kinds.map(({ type, step }) => [type, step])).toEqual([
      ['line', false], ['line', 'end'], ['scatter', undefined], ['bar', undefined],
    ]) // prettier-ignore
  })
  it('has a diagonal from the lowest to the highest of both', () => {
    const drawn = drawnOf({ diagonal: true }, [[[0, 5], [-1, 3]]]) // prettier-ignore
    expect(option(drawn).series[1]!.data).toEqual([[-1, -1], [5, 5]]) // prettier-ignore
  })
  it('that is taken along names its series', () => {
    const drawn = drawnOf({}, [[[0], [1]]], [[[0], [2]]]) // prettier-ignore
    expect(option(drawn).legend).toBeUndefined()
    expect(option(drawn, 'ROC').legend!.data).toEqual(['try 1 0', 'try 2 0'])
  })
  it('with places has their names along x, slanted where they are many', () => {
    const names = Array.from({ length: 60 }, (_, at) => `station ${at}`)
    const drawn = drawnOf({ mark: 'bars' }, [[names, names.map((_, at) => at)]])
    drawn.plots.places = names
    const { xAxis } = option(drawn)
    expect([xAxis.type, xAxis.data!.length, xAxis.axisLabel.rotate, xAxis.axisLabel.interval]).toEqual(
      ['category', 60, 40, 2],
    ) // prettier-ignore
  })
  it('without data says so', () => {
    expect(isEmpty(drawnOf({}, [[[], []]]))).toBe(true)
    expect(isEmpty(drawnOf({}, [[[0], [1]]]))).toBe(false) // prettier-ignore
    expect(option({ plots: { plots: [], series: [], places: [] }, slots: [], names: [] } as never)).toEqual(
      {},
    )
  })
})

describe('a matrix', () => {
  const matrix = (size: number, share = 'count'): Drawn => {
    const drawn = drawnOf({ mark: 'matrix', share }, [])
    const cells = Array.from({ length: size }, (_, down) =>
      Array.from({ length: size }, (_, across) => (down === across ? 3 : 0)),
    )
    drawn.plots.plots[0]!.matrix = {
      names: Array.from({ length: size }, (_, at) => `c${at}`),
      cells,
    } as never
    return drawn
  }
  it('of few classes writes every cell, of many draws those that are not empty', () => {
    expect((matrixOption(matrix(3), 0, null) as unknown as Option).series[0]!.data).toHaveLength(9)
    expect((matrixOption(matrix(50), 0, null) as unknown as Option).series[0]!.data).toHaveLength(50)
    expect(isEmpty(matrix(0))).toBe(true)
    expect(leftOut(matrix(3))).toBe(0)
  })
  it('says truth, prediction and how many, or which share', () => {
    const told = (drawn: Drawn, cell: number) =>
      (matrixOption(drawn, 0, null) as unknown as Option).tooltip.formatter({ value: [1, 0, cell] })
    expect(told(matrix(2), 3)).toBe('truth c0\nprediction c1\n3')
    expect(told(matrix(2, 'rows'), 0.1234)).toBe('truth c0\nprediction c1\n12.3 %')
  })
})

test('a timeline of acts becomes stays, each with how it ended', () => {
  const act = (minute: number, act: string, stage: string, before: number | null, after: number | null) => ({
    at: `2026-05-03T12:0${minute}:00Z`, act, stage, before, after,
  }) // prettier-ignore
  const found = staysOf({
    events: [
      act(0, 'promote', 'production', null, 1),
      act(1, 'promote', 'production', 1, 2),
      act(2, 'roll back', 'production', 2, 1),
      act(3, 'promote', 'staging', null, 3),
      act(4, 'demote', 'staging', 3, null),
    ],
  } as never)
  expect(
    found.map(({ stage, version, end, again, to }) => [stage, version, end, again, to !== null]),
  ).toEqual([
    ['production', 1, 'replaced', false, true],
    ['production', 2, 'rolled back', false, true],
    ['production', 1, null, true, false],
    ['staging', 3, 'demoted', false, true],
  ])
})
