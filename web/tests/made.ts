/** Things that tests are about, made as the service would send them. */
import type { Goal, RunPage } from '../src/api/client'
import type { Drawn, DrawnColumn } from '../src/api/comparing'

export const goalOf = (key: string, direction: 'higher' | 'lower', unit: string | null = null): Goal =>
  ({ key, direction, unit, bound: null, aggregate: 'best' }) as Goal

export const columnOf = (name: string, values: unknown[], more: Partial<DrawnColumn> = {}): DrawnColumn => ({
  text: name,
  scope: 'value',
  name,
  aggregate: null,
  goal: null,
  values,
  ...more,
})

/** Runs 1, 2, 3 … with their columns. */
export const drawnOf = (...columns: DrawnColumn[]): Drawn =>
  ({
    runs: (columns[0]?.values ?? []).map((_, at) => ({
      reference: `frost-alarm/${at + 1}`,
      number: at + 1,
      name: at === 0 ? 'baseline' : null,
      status: 'finished',
    })),
    columns,
    left_out: 0,
  }) as unknown as Drawn

type Known = [scope: string, name: string, differs?: boolean]

export const pageOf = (known: Known[], more: Partial<RunPage> = {}): RunPage =>
  ({
    rows: [],
    columns: known.map(([scope, name, differs = true]) => ({ scope, name, differs })),
    goals: [],
    seeds: ['seed'],
    count: 0,
    count_is_capped: false,
    next_cursor: null,
    remarks: [],
    chosen: [],
    python: '',
    shell: '',
    ...more,
  }) as unknown as RunPage
