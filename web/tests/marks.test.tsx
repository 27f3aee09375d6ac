/** What marks, posts, ladders and texts come to on the page, written out as markup. */
import type { ReactElement } from 'react'
import { renderToStaticMarkup } from 'react-dom/server'
import { MemoryRouter } from 'react-router'
import { describe, expect, it, test } from 'vitest'
import { Trend } from '../src/charts/Trend'
import { words } from '../src/pages/compare/Outcomes'
import { Ladder } from '../src/pages/model/Ladder'
import { Timeline } from '../src/pages/model/Timeline'
import { Checks } from '../src/pages/review/Checks'
import { Lanes } from '../src/pages/today/Lanes'
import { NewNotes } from '../src/pages/today/NewNotes'
import Markdown from '../src/parts/Markdown'
import { Changing, Key, Review, Status } from '../src/parts/Marks'
import { BoundPost, DifferencePost } from '../src/parts/Post'
import { Printed } from '../src/parts/Printed'

const markup = (element: ReactElement) => renderToStaticMarkup(<MemoryRouter>{element}</MemoryRouter>)
const plain = (html: string) => html.replace(/<[^>]*>/g, ' ').replace(/\s+/g, ' ').trim() // prettier-ignore
const all = (html: string, pattern: RegExp) => [...html.matchAll(pattern)].map((found) => found[1])
const number = (html: string, pattern: RegExp) => Number(pattern.exec(html)![1])

describe('a value against its bound', () => {
  const at = (html: string) => number(html, /<circle cx="([\d.]+)"/)
  it('stands right of the post where it is met, whichever way is better', () => {
    const higher = markup(<BoundPost value={0.95} bound={0.9} higher />)
    const lower = markup(<BoundPost value={5} bound={8} higher={false} />)
    for (const post of [higher, lower]) {
      expect(post).toContain('aria-label="goal met"')
      expect(at(post)).toBeGreaterThan(52)
    }
  })
  it('is a cross left of it where it is not', () => {
    const post = markup(<BoundPost value={0.5} bound={0.9} higher />)
    expect(post).toContain('aria-label="goal not met"')
    expect(number(post, /M([\d.]+) 6l8 8/)).toBeLessThan(52)
    expect(post).not.toContain('<circle')
  })
  it('that equals the bound meets it, and what is far off stays inside', () => {
    expect(at(markup(<BoundPost value={0} bound={0} higher />))).toBe(52)
    expect(at(markup(<BoundPost value={1e9} bound={0.9} higher />))).toBeLessThanOrEqual(99)
  })
})

describe('a change with its interval', () => {
  const post = (more: object) =>
    markup(
      <DifferencePost
        change={0.1}
        low={0.05}
        high={0.15}
        beyond
        verdict="better"
        higher
        said="better"
        {...more}
      />,
    )
  const centre = (html: string) => number(html, /<circle cx="([\d.]+)"/)
  it('right of zero is better, also where lower is', () => {
    expect(centre(post({}))).toBeGreaterThan(62)
    const lower = post({ change: -0.1, low: -0.15, high: -0.05, higher: false })
    expect(centre(lower)).toBeCloseTo(centre(post({})))
    expect(centre(post({ change: -0.1, low: -0.15, high: -0.05, verdict: 'worse' }))).toBeLessThan(62)
  })
  it('is filled beyond noise, hollow within, dashed where noise is unknown', () => {
    expect(post({})).toContain('fill="var(--accent)"')
    const within = post({ beyond: false, low: -0.1 })
    expect(within).toContain('fill="var(--surface)"')
    expect(within).toContain('stroke="var(--ink3)"')
    const unknown = post({ beyond: null, low: null, high: null })
    expect(unknown).toContain('stroke-dasharray="3 2"')
    expect(post({ verdict: 'worse' })).toContain('stroke="var(--bad)"')
  })
  it('says what it comes to', () => {
    expect(post({ said: 'within noise' })).toContain('aria-label="within noise"')
  })
})

test.each([
  [{ verdict: 'better', change: 1, difference: { beyond: true } }, 'better'],
  [{ verdict: 'better', change: 1, difference: { beyond: false } }, 'within noise'],
  [{ verdict: 'worse', change: -1, difference: { beyond: null } }, 'worse'],
  [{ verdict: null, change: 1, difference: { beyond: true } }, 'beyond noise'],
  [{ verdict: null, change: 1, difference: { beyond: null } }, ''],
  [{ verdict: 'equal', change: 0, difference: { beyond: true } }, 'equal'],
])('a change %j is %s', (change, wanted) => {
  expect(words(change as never)).toBe(wanted)
})

describe('small marks', () => {
  it('say their meaning to who does not see them', () => {
    expect(plain(markup(<Status status="failed" />))).toBe('failed')
    expect(plain(markup(<Status status="running" text="today 12:30" />))).toBe('running, today 12:30')
    expect(markup(<Status status="odd" />)).toContain('title="odd"')
    expect(plain(markup(<Review review="rejected" />))).toBe('⊘ rejected')
  })
  it('show the look of a slot', () => {
    expect(markup(<Key slot={1} />)).toContain('stroke="var(--s1)"')
    expect(markup(<Key slot={2} />)).toContain('stroke-dasharray="7 3"')
    expect(markup(<Key slot={0} />)).toContain('stroke="var(--line2)"')
  })
  it('underline nothing before it has changed', () => {
    expect(markup(<Changing>0.91</Changing>)).toBe('<span class="">0.91</span>')
  })
})

describe('the trend in a cell', () => {
  const scale = { low: 0, high: 1, steps: 10, leader: 0.9 }
  const drawn = (values: (number | null)[], running = false) =>
    markup(<Trend line={{ steps: [0, 5, 10], values }} scale={scale} slot={0} running={running} />)
  it('has the leader behind it, and a dot while it runs', () => {
    expect(drawn([0, 0.5, 1]).match(/<line/g)).toHaveLength(1)
    expect(drawn([0, 0.5, 1])).not.toContain('<circle')
    expect(drawn([0, 0.5, 1], true)).toContain('<circle')
  })
  it('ends with a cross where it ended in NaN, and leaves gaps out', () => {
    const broken = drawn([0, 0.5, null])
    expect(broken).toContain('stroke="var(--bad)"')
    expect(/<path d="([^"]*)"/.exec(broken)![1]!.match(/L/g)).toHaveLength(1)
  })
  it('stays inside however wild a value is', () => {
    const ys = /<path d="([^"]*)"/.exec(drawn([-1e9, 0.5, 1e9]))![1]!
    for (const y of all(ys, / ([\d.-]+)/g)) expect(Number(y)).toBeGreaterThanOrEqual(2)
  })
  it('of one level draws', () => {
    const flat = (
      <Trend
        line={{ steps: [0], values: [3] }}
        scale={{ low: 3, high: 3, steps: 1, leader: null }}
        slot={1}
        running
      />
    )
    expect(markup(flat)).not.toContain('NaN')
  })
})

describe('gates', () => {
  const check = (asks: string, kind: string, met: boolean, figures = {}, found = 'so it is') =>
    ({ asks, kind, met, figures, found }) as never
  it('stand along one post, unmet ones first', () => {
    const html = markup(
      <Checks
        stage="production"
        checks={[
          check('recall at least 0.9', 'bound', true, { value: 0.95, at_least: 0.9 }),
          check('alarms at most 5', 'bound', false, { value: 9, at_most: 5 }),
          check('better recall', 'better', true, { gain: 0.05, low: 0.01, high: 0.09 }),
          check('2 approvals', 'approvals', false),
        ]}
      />,
    )
    expect(plain(html)).toMatch(/2 of 4 met, unmet first/)
    expect(all(html, /<th scope="row"[^>]*>([^<]*)</g)).toEqual([
      'alarms at most 5',
      '2 approvals',
      'recall at least 0.9',
      'better recall',
    ])
    const places = all(html, /<circle cx="([\d.]+)"/g).map(Number)
    expect(places.every((at) => at > 75)).toBe(true)
    expect(number(html, /M([\d.]+) 16l8 8/)).toBeLessThan(75)
    expect(html).toContain('stroke-dasharray="2 2"')
  })
  it('that are all met, or none, say so', () => {
    expect(plain(markup(<Checks stage="staging" checks={[check('a', 'card', true)]} />))).toContain(
      'all 1 met',
    )
    expect(plain(markup(<Checks stage="staging" checks={[]} />))).toBe(
      'Gates to staging none: the review decides',
    )
  })
})

const act = (minute: number, kind: string, before: number | null, after: number | null, more = {}) => ({
  at: `2026-05-03T12:0${minute}:00Z`, act: kind, stage: 'production', before, after, person: 'Wren Okell', comment: '',
  checks: [], override_reason: null, ...more,
}) // prettier-ignore

const MODEL = {
  name: 'frost-alarm',
  project: 'orchard',
  lead: 1,
  stages: [
    { name: 'staging', occupant: null, since: null, placed_by: null, warning: null },
    {
      name: 'production',
      occupant: 1,
      since: '2026-05-03T12:02:00Z',
      placed_by: 'Wren Okell',
      warning: null,
    },
  ],
  versions: [{ number: 1, review: 'approved' }],
  events: [act(0, 'promote', null, 1), act(1, 'promote', 1, 2), act(2, 'roll back', 2, 1)],
}

describe('a ladder through time', () => {
  it('has a bar for each stay, and what stands there now', () => {
    const html = markup(<Ladder model={MODEL as never} />)
    expect(html).toContain(
      'aria-label="Ladder of frost-alarm through time. staging: empty. production: version 1."',
    )
    expect(html.match(/stroke-width="4"/g)).toHaveLength(2)
    expect(html.match(/stroke-width="8"/g)).toHaveLength(1)
    const text = plain(html)
    expect(text).toContain('rolled back to 1')
    expect(text).toContain('approved · lead version')
    expect(text).toContain('empty')
  })
  it('is loud about an occupant in trouble, and quiet about nothing', () => {
    const stages = MODEL.stages.map((stage) =>
      stage.occupant ? { ...stage, warning: 'version 1 is rejected' } : stage,
    )
    expect(markup(<Ladder model={{ ...MODEL, stages } as never} />)).toMatch(
      /fill:var\(--bad\)[^>]*>version 1 is rejected/,
    )
    const fresh = {
      ...MODEL,
      events: [],
      stages: MODEL.stages.map((stage) => ({ ...stage, occupant: null })),
    }
    expect(markup(<Ladder model={fresh as never} />)).not.toContain('NaN')
  })
  it('says where a stage was emptied', () => {
    const events = [act(0, 'promote', null, 1), act(1, 'demote', 1, null)]
    expect(plain(markup(<Ladder model={{ ...MODEL, events } as never} />))).toContain('demoted')
  })
})

describe('the timeline in words', () => {
  it('has the latest first, with gates and reasons', () => {
    const checks = [
      { asks: 'recall at least 0.9', met: true, found: 'it is 0.95' },
      { asks: '2 approvals', met: false, found: 'it has 1' },
    ]
    const events = [
      act(0, 'promote', null, 1, { checks, override_reason: 'the harvest cannot wait', comment: 'go' }),
      act(1, 'roll back', 2, 1),
      act(2, 'demote', 1, null),
    ]
    const html = markup(<Timeline model={{ ...MODEL, events } as never} />)
    expect(all(html, /<b class="strong">([^<]*)</g)).toEqual(['demoted 1', 'rolled back 2', 'promoted 1'])
    const text = plain(html)
    expect(text).toContain('1 of 2 gates met; overridden: the harvest cannot wait')
    expect(text).toContain('✕ 2 approvals: it has 1')
    expect(text).toContain('“go”')
    expect(text).toContain('production: 1 → empty')
    expect(html.match(/href="\/orchard\/models\/frost-alarm\/1"/g)).toHaveLength(2)
  })
  it('of nothing says so', () => {
    expect(plain(markup(<Timeline model={{ ...MODEL, events: [] } as never} />))).toContain(
      'No version was placed yet.',
    )
  })
})

describe('Markdown', () => {
  const of = (text: string) => markup(<Markdown text={text} />)
  it('is drawn, and HTML in it stays text', () => {
    expect(of('**hail**\n\n- one')).toContain('<strong>hail</strong>')
    expect(of('<img src=x onerror=alert(1)><script>x</script>')).not.toMatch(/<img|<script/)
  })
  it('runs nothing and asks nobody else', () => {
    expect(of('[x](javascript:alert(1))')).not.toContain('javascript:')
    const image = of('![a hill](http://elsewhere.example/x.png)')
    expect(image).not.toContain('<img')
    expect(plain(image)).toBe('a hill: http://elsewhere.example/x.png')
    expect(of('[there](http://elsewhere.example)')).toContain('rel="noreferrer noopener"')
  })
})

describe('printed lines', () => {
  it('keep their colours as those of the theme, and mark what is searched', () => {
    const html = markup(<Printed text={'\x1b[31mBad\x1b[0m and \x1b[1;42mgood bad\x1b[0m'} find="bad" />)
    expect(html).toContain('class="printed-red"')
    expect(html).toContain('printed-marked')
    expect(html).toContain('printed-bold')
    expect(html.match(/<mark/g)).toHaveLength(2)
    expect(plain(html)).toBe('Bad and good bad')
  })
  it('without colours are themselves', () => {
    expect(markup(<Printed text="a <b> & c" find="" />)).toBe('a &lt;b&gt; &amp; c')
    expect(markup(<Printed text={'\x1b[38;5;200mx\x1b[0m'} find="" />)).toContain('printed-blue')
  })
})

describe('notes since the last visit', () => {
  const note = (kind: string, reference: string) => ({
    project: 'orchard', kind, reference, author: 'Noor Adair', text: `of ${reference}`, written_at: reference,
  }) // prettier-ignore
  it('lead to what they stand on', () => {
    const notes = [
      note('run', 'frost-alarm/3'), note('experiment', 'experiment:frost-alarm'), note('model', 'model:frost-alarm'),
      note('model', 'frost-alarm@2'), note('artifact', 'artifact:nights'), note('artifact', 'nights@3'),
      note('project', 'project:orchard'),
    ] // prettier-ignore
    const html = markup(<NewNotes notes={notes as never} />)
    expect(all(html, /href="([^"]*)"/g)).toEqual([
      '/orchard/e/frost-alarm/3',
      '/orchard/e/frost-alarm',
      '/orchard/models/frost-alarm',
      '/orchard/models/frost-alarm/2',
      '/orchard/data/nights',
      '/orchard/data/nights?version=3',
      '/orchard',
    ])
    expect(plain(html)).toContain('model frost-alarm')
  })
  it('of nobody take no room', () => {
    expect(markup(<NewNotes notes={[]} />)).toBe('')
  })
})

describe('runs over time', () => {
  const run = (reference: string, begun: string, ended: string | null, status = 'finished') => ({
    project: 'orchard', experiment: reference.split('/')[0], reference, name: null, status, started_at: begun,
    ended_at: ended,
  }) // prettier-ignore
  const today = (running: object[], ended: object[]) =>
    ({ running, ended, at: '2026-05-03T13:00:00Z', since: '2026-05-02T13:00:00Z' }) as never
  it('are a bar each, in a lane for each experiment, up to the present', () => {
    const html = markup(
      <Lanes
        data={today(
          [run('frost-alarm/2', '2026-05-03T12:30:00Z', null, 'running')],
          [
            run('frost-alarm/1', '2026-05-03T12:00:00Z', '2026-05-03T12:15:00Z', 'failed'),
            run('gap-filling/1', '2026-05-03T12:00:00Z', '2026-05-03T12:00:01Z'),
          ],
        )}
      />,
    )
    expect(all(html, /aria-label="(\d runs? of [^"]*)"/g)).toEqual([
      '2 runs of frost-alarm',
      '1 run of gap-filling',
    ])
    const bars = [...html.matchAll(/<rect x="([\d.]+)%" width="([\d.]+)%"/g)].map(([, x, w]) => [
      Number(x),
      Number(w),
    ])
    // The one that runs reaches the present; one of a second can still be seen.
    expect(bars[0]![0]! + bars[0]![1]!).toBeCloseTo(100)
    expect(bars[2]![1]).toBeGreaterThanOrEqual(0.35)
    expect(html).toContain('fill="var(--bad)"')
  })
  it('of very many experiments are counted, and of none take no room', () => {
    const many = Array.from({ length: 8 }, (_, at) =>
      run(`e${at}/1`, '2026-05-03T12:00:00Z', '2026-05-03T12:30:00Z'),
    )
    expect(plain(markup(<Lanes data={today([], many)} />))).toContain('2 more experiments are not drawn.')
    expect(markup(<Lanes data={today([], [])} />)).toBe('')
  })
})
