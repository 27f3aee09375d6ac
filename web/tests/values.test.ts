/** Typed values as people read them. */
import { describe, expect, it, test } from 'vitest'
import { labelLines, labelsOf } from '../src/parts/labels'
import { look, SLOTS } from '../src/parts/looks'
import { matcher } from '../src/parts/filter'
import { leftUntil, progressText } from '../src/parts/progress'
import { isTold, outcomeText } from '../src/parts/rowsVerdict'
import { readSelection, writeSelection } from '../src/parts/selection'
import {
  arrow, asNumber, bytes, decimalsOf, goalsFirst, lasting, moment, percentOf, plain, plural, runPath,
  runsNeeded, show, signed,
} from '../src/parts/values' // prettier-ignore
import { goalOf } from './made'

describe('numbers', () => {
  it.each([
    [0.91349, undefined, '0.9135'],
    [-0.5, undefined, '−0.5'],
    [12, undefined, '12'],
    [-3, 2, '−3.00'],
    [{ float: 'NaN' }, undefined, 'NaN'],
    [{ float: 'Infinity' }, 3, '∞'],
    [{ float: '-Infinity' }, undefined, '−∞'],
    [null, undefined, 'null'],
    [undefined, undefined, '–'],
    [[1, [0.25, { float: 'NaN' }], 'a'], undefined, '[1, [0.25, NaN], a]'],
    [true, undefined, 'true'],
    [1e-7, undefined, '1e−7'],
  ])('%j with %s decimals is %s', (value, decimals, text) => {
    expect(show(value, decimals)).toBe(text)
  })

  it('knows numbers that travel as objects', () => {
    expect(plain({ float: 'NaN' })).toBeNaN()
    expect(asNumber({ float: '-Infinity' })).toBe(-Infinity)
    expect([asNumber('3'), asNumber(null), asNumber(true)]).toEqual([null, null, null])
  })

  it.each([
    [[1, 2, 3], 0],
    [[0.5, 0.25, 0.75], 3],
    [[12.5, 13.25], 1],
    [[1234.5, 2000.25], 0],
    [[0.00012, 0.0002], 6],
    [[1e-12, 2e-12], 8],
    [[], 0],
    [[null, 'x', { float: 'NaN' }], 0],
    [[0, 0.5], 3],
  ])('%j takes %i decimals', (values, wanted) => {
    expect(decimalsOf(values)).toBe(wanted)
  })

  it.each([
    [0, '±0'],
    [0.0671, '+0.0671'],
    [-12.3456, '−12.3'],
    [1e6, '+1000000'],
  ])('a change of %d is %s', (change, text) => {
    expect(signed(change)).toBe(text)
  })

  it.each([
    [0, '0 B'],
    [999, '999 B'],
    [1000, '1.0 kB'],
    [2_500_000, '2.5 MB'],
    [7e15, '7000.0 TB'],
  ])('%d bytes are %s', (size, text) => {
    expect(bytes(size)).toBe(text)
  })
})

describe('times', () => {
  it.each([
    [0.04, '0.0 s'],
    [59.94, '59.9 s'],
    [60, '1 min 0 s'],
    [3_599, '59 min 59 s'],
    [7_260, '2 h 1 min'],
  ])('%d seconds last %s', (seconds, text) => {
    expect(lasting(seconds)).toBe(text)
  })

  it('says today, else the day', () => {
    expect(moment(new Date().toISOString())).toMatch(/^today \d\d:\d\d$/)
    expect(moment('2024-05-03T12:30:00Z')).toMatch(/^3 May 2024 \d\d:\d\d$/)
    const earlier = new Date(new Date().getFullYear(), 0, 1, 12, 30)
    if (earlier.toDateString() !== new Date().toDateString()) {
      expect(moment(earlier.toISOString())).toMatch(/^1 Jan \d\d:\d\d$/)
    }
    expect([moment(null), moment(undefined)]).toEqual(['', ''])
  })

  it.each([
    [-5, 'about to end'],
    [8, '8 s left'],
    [89, '89 s left'],
    [120, '2 min left'],
    [89 * 60, '89 min left'],
    [2.5 * 3600, '2.5 h left'],
  ])('%d seconds before its end it is %s', (seconds, text) => {
    const now = Date.now()
    expect(leftUntil(new Date(now + seconds * 1000).toISOString(), now)).toBe(text)
  })

  it('says how far a run is, with or without knowing how far it goes', () => {
    const progress = { done: 1200, total: 4000, expected_end: null, rate: null }
    expect(progressText(progress as never)).toBe('1,200 of 4,000 done')
    expect(progressText({ ...progress, total: null } as never)).toBe('1,200 done')
    expect(leftUntil(null, 0)).toBe('')
  })
})

test('words in one and in many', () => {
  expect([plural(1, 'run'), plural(0, 'run'), plural(12_000, 'run')]).toEqual([
    '1 run',
    '0 runs',
    '12,000 runs',
  ])
  expect(plural(2, 'person', 'people')).toBe('2 people')
})

test('goals come first in their own order, and point the way that is better', () => {
  const goals = [goalOf('recall', 'higher'), goalOf('loss', 'lower'), goalOf('absent', 'higher')]
  expect(goalsFirst(['depth', 'loss', 'recall'], goals)).toEqual(['recall', 'loss', 'depth'])
  expect(goals.map(arrow)).toEqual([' ↑', ' ↓', ' ↑'])
  expect(arrow(null)).toBe('')
})

test('a run of another project has its own address', () => {
  expect(runPath('orchard', 'frost-alarm/3')).toBe('/orchard/e/frost-alarm/3')
  expect(runPath('orchard', 'hill/frost-alarm/3')).toBe('/hill/e/frost-alarm/3')
})

describe('labels as lines', () => {
  it('are read back as they were written', () => {
    const labels = { purpose: 'baseline', note: 'a=b', empty: '' }
    expect(labelsOf(labelLines(labels), labels)).toEqual(labels)
  })
  it('take away what stands there no more', () => {
    expect(labelsOf('a = 1\n\n = nothing\n', { a: '0', b: '2' })).toEqual({ a: '1', b: null })
  })
})

describe('a filter of names', () => {
  it.each([
    ['', ['loss', 'val/loss', 'v+1']],
    ['val/*', ['val/loss']],
    ['*loss', ['loss', 'val/loss']],
    ['l?ss', ['loss']],
    ['v+1', ['v+1']],
    ['/^v/', ['val/loss', 'v+1']],
    ['/loss$', ['loss', 'val/loss']],
  ])('%s', (text, wanted) => {
    const { fits, error } = matcher(text)
    expect(['loss', 'val/loss', 'v+1'].filter(fits)).toEqual(wanted)
    expect(error).toBeNull()
  })
  it('hides nothing while it is half typed, and says why', () => {
    const { fits, error } = matcher('/(')
    expect(fits('loss')).toBe(true)
    expect(error).toMatch(/group/i)
  })
})

describe('the selection in the address', () => {
  it('is read back as it was written', () => {
    const selection = new Map([
      ['12', 1],
      ['9', 2],
      ['40', 0],
    ])
    expect(writeSelection(selection)).toBe('12~1,9~2,40~0')
    expect(readSelection(writeSelection(selection))).toEqual(selection)
  })
  it('leaves out what is no run with a slot', () => {
    expect(readSelection(`1~1,2,~3,4~x,5~${SLOTS + 1},6~-1,7~1.5`)).toEqual(new Map([['1', 1]]))
    expect(readSelection(null)).toEqual(new Map())
  })
})

test('every slot has a look of its own, and what is not selected a quiet one', () => {
  const looks = Array.from({ length: SLOTS }, (_, at) => look(at + 1))
  expect(new Set(looks.map(({ colour, dash }) => `${colour} ${dash.join('-')}`)).size).toBe(SLOTS)
  expect(look(0)).toEqual({ colour: 'var(--line2)', dash: [] })
})

describe('verdicts in words', () => {
  it.each([
    [0.95, '95 %'],
    [0.9375, '93.75 %'],
    [0.999, '99.9 %'],
    [1 - 0.05 / 3, '98.3333 %'],
  ])('a confidence of %s is %s', (share, text) => expect(percentOf(share)).toBe(text))

  it.each([
    [2, '2'],
    [1000, '1000'],
    [1001, 'more than 1,000'],
  ])('%s runs are said as %s', (count, text) => expect(runsNeeded(count)).toBe(text))

  it.each([
    ['better', 'better', true],
    ['worse', 'worse', true],
    ['within noise', 'within noise', false],
    ['too few to tell', 'too few to tell: 3 of 6 rows', null],
  ] as const)('%s', (outcome, text, told) => {
    expect(outcomeText({ outcome, counted: 3, needed: 6 })).toBe(text)
    expect(isTold({ outcome })).toBe(told)
  })
})
