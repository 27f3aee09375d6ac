/** What of a metric's points may stand for it. */
import type { Schemas } from './client'

export type Aggregate = NonNullable<Schemas['NewGoal']['aggregate']>

// Those that the service knows, in its order: one that is missing here does not compile.
const EVERY: Record<Aggregate, true> = {
  best: true,
  last: true,
  first: true,
  min: true,
  max: true,
  mean: true,
  count: true,
}
export const AGGREGATES = Object.keys(EVERY) as Aggregate[]
