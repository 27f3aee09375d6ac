/** Which columns charts of runs offer, and which they begin with. */
import type { RunPage } from '../../../api/client'
import { columnText, keysOf } from '../columns'

const FIELDS = ['number', 'started', 'duration', 'status', 'author', 'host', 'commit', 'code', 'replicates']

export type Offered = { text: string; scope: string; differs: boolean; goal: boolean; seed: boolean }

export function offered(page: RunPage): Offered[] {
  const values = keysOf(page).map((column) => ({
    text: column.text,
    scope: 'value',
    differs: true,
    goal: !!column.goal,
    seed: false,
  }))
  const others = page.columns
    .filter((column) => column.scope !== 'value')
    .map((column) => ({
      text: columnText(column, page.columns),
      scope: column.scope,
      differs: column.differs,
      goal: false,
      seed: column.scope === 'param' && page.seeds.includes(column.name),
    }))
  const fields = FIELDS.map((text) => ({ text, scope: 'field', differs: true, goal: false, seed: false }))
  return [...values, ...others, ...fields]
}

export const optionsOf = (all: Offered[]) => all.map(({ text }) => ({ value: text, text }))

const SCOPES: Record<string, string> = { value: 'metric', param: 'param', label: 'label', field: 'run' }
const plain = (text: string) => text.replace(/^(metric|param|label|run):/, '')

/** The text under which a column is offered that an address names, with its scope as saved views have it, or without. */
export function offeredAs(all: Offered[], asked: string | null): string | undefined {
  if (asked === null) return undefined
  const same = all.find((one) => one.text === asked)
  const scope = asked.split(':')[0]
  const settled = () => all.find((one) => SCOPES[one.scope] === scope && plain(one.text) === plain(asked))
  return (same ?? settled())?.text
}

/** What the address asks for, where it is there; else the first that fits. */
export const pick = (all: Offered[], asked: string | null, ...wanted: ((one: Offered) => boolean)[]) => {
  const named = offeredAs(all, asked)
  if (named !== undefined) return named
  for (const fits of wanted) {
    const found = all.find(fits)
    if (found) return found.text
  }
  return all[0]?.text ?? 'number'
}

export const isGoal = (one: Offered) => one.goal
export const isValue = (one: Offered) => one.scope === 'value'
export const isSetting = (one: Offered) => one.scope === 'param' && one.differs
/** Seeds are what replicates differ in; they explain nothing. */
export const isCause = (one: Offered) => isSetting(one) && !one.seed

const AXES = 8

/** The axes of parallel coordinates: settings that differ, then the values with goals. */
export function axesOf(all: Offered[]): string[] {
  const goals = all.filter(isGoal).slice(0, 3)
  const ends = goals.length ? goals : all.filter(isValue).slice(0, 2)
  // Of one run nothing differs: then all that was set.
  const differing = all.filter(isCause)
  const settings = differing.length ? differing : all.filter((one) => one.scope === 'param')
  return [...settings.slice(0, AXES - ends.length), ...[...ends].reverse()].map((one) => one.text)
}

/** What runs may be split by into small multiples: settings that differ, labels, and some fields. */
export const splitsOf = (all: Offered[]) => [
  { value: '', text: 'none' },
  ...optionsOf(
    all.filter(
      (one) => isCause(one) || one.scope === 'label' || ['status', 'author', 'host'].includes(one.text),
    ),
  ),
]
