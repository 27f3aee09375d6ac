/** Text that the console writes into queries, addresses and gates, and reads back. */
import { describe, expect, it, test } from 'vitest'
import { conjuncts, readBrushes, rounded, withBrush, written } from '../src/pages/experiment/lens/brushes'
import { both, parts, sortParts, turned, waysOf, word } from '../src/pages/experiment/words'

describe('a name or value in a query', () => {
  it.each([
    ['recall', 'recall'],
    ['opt.rate', 'opt.rate'],
    ['val/loss', 'val/loss'],
    ['two words', '"two words"'],
    ['a=b', '"a=b"'],
    ['AND', '"AND"'],
    ['nan', '"nan"'],
    ['say "hail"', '"say ""hail"""'],
    ['.hidden', '".hidden"'],
    ['host:port', '"host:port"'],
  ])('%s is written %s', (text, wanted) => {
    expect(word(text)).toBe(wanted)
  })
})

test('lists are parted at commas that stand in no quotes', () => {
  expect(parts('recall, "a, b",\'c,d\' ,,depth')).toEqual(['recall', '"a, b"', "'c,d'", 'depth'])
  expect(parts(null)).toEqual([])
})

describe('one test more', () => {
  it.each([
    ['', 'depth in 4..8', 'depth in 4..8'],
    ['recall > 0.9', 'depth = 4', 'recall > 0.9 and depth = 4'],
    ['a = 1 or b = 2', 'c = 3', '(a = 1 or b = 2) and c = 3'],
    ['  ', 'c = 3', 'c = 3'],
  ])('%s with %s', (query, more, wanted) => {
    expect(both(query, more)).toBe(wanted)
  })
})

describe('sorting', () => {
  it('reads its parts', () => {
    expect(sortParts('recall,fit_seconds:asc,"a:desc":desc')).toEqual([
      { name: 'recall', way: '' },
      { name: 'fit_seconds', way: 'asc' },
      { name: '"a:desc"', way: 'desc' },
    ])
  })
  it('turns a column round with each click, and begins with what is better', () => {
    const numbers = waysOf(true, false)
    const once = turned('depth', 'recall', false, numbers)
    const twice = turned(once, 'recall', false, numbers)
    expect([once, twice, turned(twice, 'recall', false, numbers)]).toEqual(['recall', 'recall:asc', 'recall'])
    expect(waysOf(true, true)).toEqual(['', 'desc'])
    expect(turned('', 'learner', false, waysOf(false, false))).toBe('learner:asc')
  })
  it('adds to what it is sorted by already, up to four', () => {
    const ways = waysOf(true, false)
    expect(turned('recall,depth:asc', 'recall', true, ways)).toBe('recall:asc,depth:asc')
    expect(turned('a,b,c,d', 'e', true, ways)).toBe('a,b,c,d')
    expect(turned('a,b', 'e', true, ways)).toBe('a,b,e')
  })
})

describe('brushes are terms of the query', () => {
  const axes = ['depth', 'learner', '"odd name"', 'recall']

  it.each([
    ['a = 1 and b = 2', ['a = 1', 'b = 2']],
    ['a = 1 or b = 2 and c = 3', ['a = 1 or b = 2 and c = 3']],
    ['(a = 1 or b = 2) and c = 3', ['(a = 1 or b = 2)', 'c = 3']],
    ['note like "this and that" and c = 3', ['note like "this and that"', 'c = 3']],
    ["x in {'a and b', c}  AND  d in 1..2", ["x in {'a and b', c}", 'd in 1..2']],
    ['', []],
  ])('parts of %s', (query, wanted) => {
    expect(conjuncts(query)).toEqual(wanted)
  })

  it('are found among other tests, which stay', () => {
    const { brushes, rest } = readBrushes(
      'depth in 4..8 and status = finished and learner in {forest, "a, b"} and "odd name" in -1.5..2e3',
      axes,
    )
    expect(rest).toBe('status = finished')
    expect([...brushes]).toEqual([
      ['depth', { low: 4, high: 8 }],
      ['learner', { names: ['forest', 'a, b'] }],
      ['"odd name"', { low: -1.5, high: 2000 }],
    ])
  })

  it('are moved, taken away, and written as they are read', () => {
    const first = withBrush('status = finished', axes, 'depth', { low: 4, high: 8 })
    expect(first).toBe('status = finished and depth in 4..8')
    const moved = withBrush(first, axes, 'depth', { low: 2, high: 3 })
    expect(moved).toBe('status = finished and depth in 2..3')
    const named = withBrush(moved, axes, 'learner', { names: ['forest', 'two words', 'and'] })
    expect(readBrushes(named, axes).brushes.get('learner')).toEqual({ names: ['forest', 'two words', 'and'] })
    expect(withBrush(withBrush(named, axes, 'learner', null), axes, 'depth', null)).toBe('status = finished')
  })

  it('stay whole beside a disjunction', () => {
    const query = withBrush('a = 1 or b = 2', axes, 'depth', { low: 1, high: 2 })
    expect(query).toBe('(a = 1 or b = 2) and depth in 1..2')
    expect(readBrushes(query, axes).rest).toBe('(a = 1 or b = 2)')
  })

  it('only brush axes that are drawn, each once', () => {
    const { brushes, rest } = readBrushes('rate in 1..2 and depth in 1..2 and depth in 2..3', axes)
    expect([...brushes.keys()]).toEqual(['depth'])
    expect(rest).toBe('rate in 1..2 and depth in 2..3')
  })

  it.each([
    [0.12345, 0.98765, 1, { low: 0.12, high: 0.99 }],
    [4.02, 7.98, 10, { low: 4, high: 8 }],
    [1234, 5678, 10_000, { low: 1200, high: 5700 }],
    [3, 3, 0, { low: 3, high: 3 }],
  ])('edges %d to %d on an axis of %d', (low, high, span, wanted) => {
    expect(rounded(low, high, span)).toEqual(wanted)
  })

  it('names are quoted where a query needs it', () => {
    expect(written('learner', { names: ['a b', 'c'] })).toBe('learner in {"a b", c}')
  })
})
