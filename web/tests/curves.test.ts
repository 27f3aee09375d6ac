/** Curves on one axis: joined, smoothed, cut, taken along. */
import { describe, expect, it, test } from 'vitest'
import { arrange, robustRange, smoothed, stepsWithin, xOf } from '../src/charts/arrange'
import { banded } from '../src/charts/bands'
import { cell, csvOf, svgOf, ticks, type Picture } from '../src/charts/save'

const seconds = (...all: number[]) => all.map((one) => one * 1e6)
const series = (steps: number[], values: (number | null)[], more = {}) => ({
  name: 'frost-alarm/1',
  label: '1',
  slot: 1,
  status: 'finished',
  steps,
  times: seconds(...steps.map((step) => 10 + step)),
  values,
  ...more,
})

describe('where points stand', () => {
  const one = series([0, 5], [1, 2], { against: [0.5, null] })
  it('by step, by seconds since the first, by the clock, by another metric', () => {
    expect(xOf(one, 'step')).toEqual([0, 5])
    expect(xOf(one, 'elapsed')).toEqual([0, 5])
    expect(xOf(one, 'clock')).toEqual([10, 15])
    expect(xOf(one, 'metric')).toEqual([0.5, NaN])
  })
})

describe('several series on one axis', () => {
  it('keep their own steps, with holes where they have none', () => {
    const table = arrange([series([0, 2], [1, 3]), series([1, 2], [5, 6])], 'step', false, 100)
    expect(table).toEqual([
      [0, 1, 2],
      [1, undefined, 3],
      [undefined, 5, 6],
    ])
  })
  it('leave out what a log scale cannot show', () => {
    expect(arrange([series([0, 1, 2], [0, -1, 4])], 'step', true, 100)[1]).toEqual([null, null, 4])
  })
  it('are rounded to what a screen can tell apart, however many points there are', () => {
    const steps = Array.from({ length: 1000 }, (_, at) => at)
    const table = arrange(
      [
        series(steps, steps),
        series(
          steps.map((at) => at + 0.4),
          steps,
        ),
      ],
      'step',
      false,
      50,
    )
    expect(table[0]!.length).toBeLessThanOrEqual(52)
  })
  it('are empty where the other metric has no number', () => {
    expect(arrange([series([0, 1], [1, 2], { against: [null, null] })], 'metric', false, 10)).toEqual([
      [],
      [],
    ])
  })
  it('stand in the order of the axis, also where a run went back', () => {
    expect(arrange([series([3, 1, 2], [30, 10, 20])], 'step', false, 10)).toEqual([
      [1, 2, 3],
      [10, 20, 30],
    ])
  })
})

describe('a stretch to look at closely', () => {
  const one = series([0, 10, 20, 30], [1, 2, 3, 4])
  it('asks for a point more on each side', () => {
    expect(stepsWithin([one], 'step', [9, 21])).toEqual([0, 30])
    expect(stepsWithin([one], 'elapsed', [9, 11])).toEqual([0, 20])
  })
  it('between two points asks for the steps themselves, and by another axis for nothing', () => {
    expect(stepsWithin([one], 'step', [11.5, 12.2])).toEqual([11, 13])
    expect(stepsWithin([one], 'clock', [0, 1])).toBeNull()
  })
})

test('smoothing begins anew after a gap and leaves holes alone', () => {
  expect(smoothed([1, 3, undefined, null, 10, 20], 0.5)).toEqual([1, 2, undefined, null, 10, 15])
  expect(smoothed([1, 3], 0)).toEqual([1, 3])
})

describe('a few wild curves among many', () => {
  const steps = Array.from({ length: 20 }, (_, at) => at)
  const calm = (shift: number) =>
    series(
      steps,
      steps.map((at) => at / 20 + shift / 100),
    )
  it('do not flatten the others', () => {
    const all = [...Array.from({ length: 59 }, (_, at) => calm(at)), series([0], [1e6])]
    const range = robustRange(all)!
    expect(range.high).toBeLessThan(2)
    expect(range.outside).toBeGreaterThanOrEqual(1)
  })
  it('are not cut among few, nor where all are alike', () => {
    expect(robustRange([calm(0), series([0], [1e6])])).toBeNull()
    expect(robustRange(Array.from({ length: 20 }, (_, at) => calm(at)))).toBeNull()
    expect(
      robustRange(
        Array.from({ length: 20 }, () =>
          series(
            steps,
            steps.map(() => 3),
          ),
        ),
      ),
    ).toBeNull()
  })
})

test('a group is its mean, and where it is selected its band', () => {
  const curve = { run: 'e/1', runs: 5, steps: [0, 1], mean: [1, 2], low: [0, 1], high: [2, 3] }
  const alone = { ...curve, run: 'e/2', runs: 1 }
  const found = banded([curve, alone] as never, (_, at) => ({ label: `try ${at}`, slot: 1 }))
  expect(found.map(({ label, edge, values }) => [label, edge, values])).toEqual([
    ['try 0 ×5', undefined, [1, 2]],
    ['try 0 ×5', 'high', [2, 3]],
    ['try 0 ×5', 'low', [0, 1]],
    ['try 1', undefined, [1, 2]],
  ])
  expect(banded([curve] as never, () => ({ label: '', slot: 0 }))).toHaveLength(1)
})

describe('a chart taken along', () => {
  const picture = (more: Partial<Picture> = {}): Picture => ({
    title: 'loss <of> "two"',
    series: [series([0, 1, 2], [1, null, 3]) as never],
    axis: 'step',
    axisName: 'step',
    log: false,
    ...more,
  })

  it('as CSV holds what is drawn, quoted where needed', () => {
    expect(csvOf(picture())).toBe(
      'run,step,time,value\r\n' +
        'frost-alarm/1,0,1970-01-01T00:00:10.000Z,1\r\n' +
        'frost-alarm/1,1,1970-01-01T00:00:11.000Z,NaN\r\n' +
        'frost-alarm/1,2,1970-01-01T00:00:12.000Z,3\r\n',
    )
    const against = series([0, 1], [1, 2], { name: 'a,"b"', against: [0.5, null] })
    const lines = csvOf(
      picture({ series: [against as never], axis: 'metric', axisName: 'train, loss' }),
    ).split('\r\n')
    expect(lines[0]).toBe('run,step,time,"train, loss",value')
    expect(lines[2]).toBe('"a,""b""",1,1970-01-01T00:00:11.000Z,NaN,2')
  })

  it('as SVG is drawn anew, broken at gaps, its texts only text', () => {
    const drawn = svgOf(picture({ bound: 2 }))
    expect(drawn).toContain('loss &#60;of&#62; &#34;two&#34;')
    expect(drawn).not.toContain('<of>')
    const path = /<path d="([^"]*)"/.exec(drawn)![1]!
    expect(path.match(/M/g)).toHaveLength(2)
    expect(path).not.toContain('L')
    expect(drawn).toContain('stroke-dasharray="1 3"')
    expect(svgOf(picture({ bound: 99 }))).not.toContain('stroke-dasharray="1 3"')
  })

  it('shows the stretch that was zoomed to, logs by powers, and other metrics as dots', () => {
    const zoomed = svgOf(picture({ series: [series([0, 1, 2, 3], [1, 2, 3, 4]) as never], zoom: [1, 2] }))
    expect(/<path d="([^"]*)"/.exec(zoomed)![1]).toMatch(/^M64\.0 [\d.]+L800\.0 [\d.]+$/)
    const logs = svgOf(picture({ series: [series([0, 1, 2], [0.01, -1, 100]) as never], log: true }))
    expect(logs).toContain('>100</text>')
    const dots = svgOf(
      picture({ series: [series([0, 1], [1, 2], { against: [5, null] }) as never], axis: 'metric' }),
    )
    expect(dots.match(/<circle/g)).toHaveLength(1)
    expect(svgOf(picture({ series: [] }))).toContain('</svg>')
    expect(svgOf(picture({ axis: 'clock' }))).toContain('>00:00:10</text>')
  })

  it.each([
    ['plain', 'plain'],
    ['a,b', '"a,b"'],
    ['say "hail"', '"say ""hail"""'],
    ['two\nlines', '"two\nlines"'],
    [3, 3],
  ])('a cell of %j', (given, wanted) => {
    expect(cell(given)).toBe(wanted)
  })
})

describe('ticks stand at round places', () => {
  it.each([
    [0, 1, 5, [0, 0.2, 0.4, 0.6, 0.8, 1]],
    [3, 97, 4, [50]],
    [0, 0.03, 3, [0, 0.01, 0.02, 0.03]],
    [-10, 10, 4, [-10, -5, 0, 5, 10]],
  ])('from %d to %d, about %d', (low, high, count, wanted) => {
    expect(ticks(low, high, count)).toEqual(wanted)
  })
})
