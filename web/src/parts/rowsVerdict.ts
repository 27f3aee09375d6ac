/** What the same rows say of two models, in words. */
import type { Schemas } from '../api/client'

type Verdict = Schemas['RowsVerdict']

/** Better, worse, within noise; or that the rows are too few, with how many it takes. */
export const outcomeText = (verdict: Pick<Verdict, 'outcome' | 'counted' | 'needed'>): string =>
  verdict.outcome === 'too few to tell'
    ? `too few to tell: ${verdict.counted} of ${verdict.needed} rows`
    : verdict.outcome

/** Whether a difference was told from noise: null where the rows were too few to ask. */
export const isTold = ({ outcome }: Pick<Verdict, 'outcome'>): boolean | null =>
  outcome === 'too few to tell' ? null : outcome !== 'within noise'
