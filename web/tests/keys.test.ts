import { describe, expect, it } from 'vitest'
import { isInProject, isOfMe, isTouched, keys, type Changes } from '../src/api/keys'

const NOTHING: Changes = {
  runs: new Set(),
  experiments: new Set(),
  printed: new Set(),
  sampled: new Set(),
  acts: false,
}

const CHANGES: Record<string, Changes> = {
  run: { ...NOTHING, runs: new Set(['frost/3']), experiments: new Set(['frost']) },
  output: { ...NOTHING, printed: new Set(['frost/3']) },
  samples: { ...NOTHING, sampled: new Set(['frost/3']) },
  act: { ...NOTHING, acts: true },
}

describe('what changes make a reading stale', () => {
  it.each([
    ['the page of the run', keys.run('p', 'frost/3'), ['run', 'output', 'samples']],
    ['the page of another run', keys.run('p', 'frost/30'), []],
    ['the same run elsewhere', keys.run('other', 'frost/3'), []],
    ['notes on the run', keys.notes('p', 'frost/3'), ['run', 'output', 'samples']],
    ['notes on a version', keys.notes('p', 'net@3'), ['act']],
    ['its output', keys.output('p', 'frost/3', null, ''), ['output']],
    ['its samples', keys.resources('p', 'frost/3', 300), ['samples']],
    ['what surrounded it', keys.surroundings('p', 'frost/3', null), []],
    ['a table of its experiment', keys.runs('p', 'frost', {}, 0), ['run']],
    ['a table of another experiment', keys.runs('p', 'hail', {}, 0), []],
    ['the experiments', keys.experiments('p'), ['run']],
    ['curves with the run', keys.curves('p', ['hail/1', 'frost/3'], 'loss'), ['run']],
    ['curves without it', keys.curves('p', ['hail/1'], 'loss'), []],
    ['a comparison with it', keys.comparison('p', ['frost/3'], 1), ['run']],
    ['a model', keys.model('p', 'frost'), ['act']],
    ['the journal', keys.journal('p', null), ['act']],
    ['today', keys.today(null), ['run', 'act']],
    ['files of a version', keys.files('p', 'net', '3'), []],
    ['who one is', keys.me(), []],
  ])('%s', (_, key, touched) => {
    const found = Object.keys(CHANGES).filter((name) => isTouched(key, 'p', CHANGES[name] ?? NOTHING))
    expect(found).toEqual(touched)
  })
})

it('an act of one’s own makes stale what goes on in the project, and nothing that never changes', () => {
  expect(isInProject(keys.model('p', 'frost'), 'p')).toBe(true)
  expect(isInProject(keys.model('q', 'frost'), 'p')).toBe(false)
  expect(isInProject(keys.files('p', 'net', '3'), 'p')).toBe(false)
  expect(isInProject(keys.views('p'), 'p')).toBe(false)
  expect(isOfMe(keys.me())).toBe(true)
  expect(isOfMe(keys.projects())).toBe(false)
})
