/** What a review says of two versions on the same data, written out as markup. */
import { renderToStaticMarkup } from 'react-dom/server'
import { MemoryRouter, Route, Routes } from 'react-router'
import { describe, expect, it, test } from 'vitest'
import { methodsOf } from '../src/pages/compare/Why'
import { OnData } from '../src/pages/review/OnData'

const difference = (measure: string, change: number, more = {}) => ({
  measure, change, left: 0.9 + change, right: 0.9, low: change - 0.01, high: change + 0.01, rows: 896, confidence: 0.95,
  outcome: 'better', higher_is_better: true, method: 'paired t', counted: 896, needed: null, ...more,
}) // prettier-ignore

const partOf = (more = {}) => ({
  on: 'held-out', candidate: {}, other: {}, same_data: true, differences: [], note: '', ...more,
}) // prettier-ignore

const pinned = (id: string, more = {}) => ({
  id, run: 'frost-alarm/25', on: 'held-out', person: 'Noor Adair', at: '2026-11-23T14:02:00Z', digest: 'c4a4dad30be8aa',
  results: { recall: 0.91 }, replaces: null, refusal: null, ...more,
}) // prettier-ignore

const shown = (parts: object[], other: number | null = 3, evidence = [pinned('x')], left = {}) => {
  const review = {
    candidate: {
      number: 5,
      reference: 'frost-alarm@5',
      evidence,
      left_out_evidence: left,
    },
    other: other === null ? null : { number: other },
    on_data: parts,
  }
  return renderToStaticMarkup(
    <MemoryRouter initialEntries={['/orchard/models']}>
      <Routes>
        <Route path="/:project/models" element={<OnData review={review as never} />} />
      </Routes>
    </MemoryRouter>,
  )
}
const rows = (html: string) =>
  [...html.matchAll(/<tr class="h-\[28px\][^>]*>(.*?)<\/tr>/g)].map(([, row]) =>
    row!.replace(/<svg.*?<\/svg>/g, '').replace(/<[^>]*>/g, ' ').replace(/\s+/g, ' ').trim(),
  ) // prettier-ignore

describe('two versions on the same rows', () => {
  it('are better or worse by the way of each measure, whatever its sign', () => {
    const differences = [
      difference('recall', 0.05),
      difference('log_loss', 0.02, { outcome: 'worse', higher_is_better: false }),
      difference('mae', -0.02, { higher_is_better: false }),
      difference('precision', 0.001, { outcome: 'within noise' }),
      difference('f1', 0.1, { outcome: 'too few to tell', low: null, high: null, counted: 3, needed: 6 }),
    ]
    const html = shown([partOf({ differences })])
    expect(rows(html)).toEqual([
      'recall ↑ 0.950 0.900 +0.05 better',
      'log_loss ↓ 0.920 0.900 +0.02 worse',
      'mae ↓ 0.880 0.900 −0.02 better',
      'precision ↑ 0.901 0.900 +0.001 within noise',
      'f1 ↑ 1.00 0.90 +0.1 too few to tell: 3 of 6 rows',
    ])
    expect(html).toContain('the same 896 rows, 95 %')
    expect(html).toContain('title="paired t"')
    const wide = shown([partOf({ differences: [difference('recall', 0.05, { confidence: 0.9999 })] })])
    expect(wide).toContain('the same 896 rows, 99.99 %')
  })

  it('show results as they were recorded, also those that rows do not tell', () => {
    const part = partOf({
      differences: [difference('recall', 0.05)],
      candidate: { recall: 0.97, alarms: 12, verdict: 'fine' },
      other: { recall: 0.91, alarms: 9 },
    })
    expect(rows(shown([part]))).toEqual([
      'recall ↑ 0.970 0.910 +0.05 better',
      'alarms 12 9',
      'verdict fine –',
    ])
  })

  it('say why there is nothing to judge, and where the data is not the same', () => {
    const html = shown([
      partOf({ note: 'version 3 has no predictions row by row on held-out', same_data: false }),
    ])
    expect(html).toContain('version 3 has no predictions row by row on held-out')
    expect(html).toContain('Both call it held-out, and it is not the same data.')
  })

  it('say who added the evidence, from which run, on which data', () => {
    const html = shown([partOf()])
    expect(html).toContain('href="/orchard/e/frost-alarm/25"')
    expect(html.replace(/<[^>]*>/g, '')).toMatch(
      /Added by Noor Adair, .*, from frost-alarm\/25, data sha256:c4a4dad3/,
    )
  })

  it('show what evidence replaced, with its figures, and what does not count', () => {
    const newer = pinned('y', {
      digest: null,
      refusal: 'evidence on held-out is added by rex alone, not by dana',
    })
    const text = shown([partOf()], 3, [pinned('x'), newer], { spring: 'of a later step' }).replace(
      /<[^>]*>/g,
      '',
    )
    expect(text).toContain('no fingerprint of the data')
    expect(text).toContain('It does not count: evidence on held-out is added by rex alone, not by dana.')
    expect(text).toMatch(/It replaced what was added by Noor Adair, .*: recall 0.91/)
    expect(text).toContain('Evidence of its run on spring was left out: of a later step.')
  })
})

describe('a version alone', () => {
  it('has its results and no columns of another', () => {
    const html = shown([partOf({ candidate: { recall: 0.97 } })], null)
    expect(rows(html)).toEqual(['recall 0.970'])
    expect(html).not.toContain('5 − ')
    expect(html).toContain('its results there')
  })
  it('without evidence says how to add some', () => {
    expect(shown([], null)).toContain('kinetrum evidence frost-alarm@5 --on NAME --predictions FILE')
  })
})

test('each method is named with what it judged', () => {
  const differences = [
    difference('accuracy', 0.1, { method: "Tango's score test" }),
    difference('recall', 0.1),
    difference('precision', 0.1),
    difference('roc_auc', 0.1, { method: 'DeLong' }),
    difference('f1', 0.1, { method: 'none' }),
  ]
  expect(methodsOf([{ differences }, { differences: [difference('recall', 0.1)] }])).toBe(
    "accuracy by Tango's score test; recall and precision by paired t; roc_auc by DeLong",
  )
  expect(methodsOf([])).toBe('')
})
