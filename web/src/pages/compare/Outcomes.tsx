/** What came out differently: values or means with their spread, the change, its interval and what it comes to. */
import type { Comparison, Outcome, OutcomeChange } from '../../api/comparing'
import { DifferencePost, PostHead } from '../../parts/Post'
import { arrow, decimalsOf, runsNeeded, show, signed } from '../../parts/values'
import { Heads } from './Heads'

/** Better, worse, equal, within noise; without replicates better or worse alone. */
export function words(change: OutcomeChange): string {
  const { beyond } = change.difference
  if (beyond === false) return 'within noise'
  if (change.verdict === 'equal' || change.change === 0) return 'equal'
  return change.verdict ?? (beyond ? 'beyond noise' : '')
}

function said({ difference: told }: OutcomeChange): string {
  if (told.low === null || told.high === null || told.probability === null)
    return told.needed
      ? `One run each; ${runsNeeded(told.needed)} runs each would tell.`
      : 'One run each: noise is unknown.'
  const sure = Math.max(told.probability, 1 - told.probability)
  const more = told.needed ? ` ${runsNeeded(told.needed)} runs each would tell it.` : ''
  return `${signed(told.low)} to ${signed(told.high)} with ${+(told.confidence * 100).toPrecision(4)} % confidence (${told.method}); ${told.probability >= 0.5 ? 'higher' : 'lower'} with probability ${sure > 0.9995 ? '> 0.999' : sure.toFixed(3)}.${more}`
}

const tone = (change: OutcomeChange) => {
  const text = words(change)
  return text === 'better' ? 'strong text-accent' : text === 'worse' ? 'strong text-bad' : 'text-ink3'
}

export function Outcomes({ data, slots, baseline }: { data: Comparison; slots: number[]; baseline: number }) {
  const two = data.runs.length === 2
  const subject = baseline === 0 ? 1 : 0
  return (
    <table className="mt-5 w-full" aria-label="Came out differently">
      <thead>
        <tr className="border-b border-line2">
          <th scope="col" className="pb-1">
            <h2 className="strong inline text-sm">Came out differently</h2>{' '}
            <span className="lab">{data.outcomes_equal} equal, hidden</span>
          </th>
          <Heads data={data} slots={slots} baseline={baseline} />
          {two && (
            <>
              <th scope="col" className="lab pb-1 pl-4 text-right whitespace-nowrap">
                {data.runs[subject]?.label} − {data.runs[baseline]?.label}
              </th>
              <th scope="col" className="lab pb-1 pl-4">
                <PostHead />
              </th>
              <td />
            </>
          )}
        </tr>
      </thead>
      <tbody>
        {data.outcomes.map((row) => (
          <Row key={row.key} row={row} data={data} subject={two ? subject : null} name={row.key} />
        ))}
        {data.costs.map((row) => (
          <Row key={`cost ${row.key}`} row={row} data={data} subject={two ? subject : null} name={row.key} />
        ))}
      </tbody>
    </table>
  )
}

function Row(props: { row: Outcome; data: Comparison; subject: number | null; name: string }) {
  const { row, data, subject, name } = props
  const decimals = decimalsOf(row.values)
  const change = subject === null ? null : row.changes[subject]
  return (
    <tr className="h-[31px] border-b border-line">
      <th scope="row" className="whitespace-nowrap">
        {name}
        {arrow(row.goal)} <span className="text-2xs text-ink3">{row.goal?.unit}</span>
      </th>
      {row.values.map((value, at) => {
        const spread = row.spreads[at]
        const other = subject === null ? row.changes[at] : null
        return (
          <td
            key={data.runs[at]?.reference}
            className={`pl-4 text-right whitespace-nowrap ${row.best[at] ? 'strong' : 'text-ink2'}`}
            title={
              spread
                ? `mean of ${spread.runs}, ${signed(spread.low ?? 0)} to ${signed(spread.high ?? 0)}`
                : undefined
            }
          >
            {row.present[at] ? show(value, typeof value === 'number' ? decimals : undefined) : '–'}
            {spread?.deviation != null && (
              <span className="ml-1 text-2xs font-normal text-ink3">±{+spread.deviation.toPrecision(2)}</span>
            )}
            {row.best[at] && <span className="sr-only"> best</span>}
            {other && row.goal && (
              <span className={`block text-2xs font-normal ${tone(other)}`} title={said(other)}>
                {signed(other.change)} {words(other)}
              </span>
            )}
          </td>
        )
      })}
      {subject !== null && <ChangeCells change={change ?? null} row={row} />}
    </tr>
  )
}

function ChangeCells({ change, row }: { change: OutcomeChange | null; row: Outcome }) {
  if (!change)
    return (
      <>
        <td />
        <td />
        <td className="pl-3 text-xs text-ink3">{row.goal ? '' : 'no goal'}</td>
      </>
    )
  const { difference } = change
  return (
    <>
      <td className="pl-4 text-right whitespace-nowrap">
        {signed(change.change)}
        <span className="ml-1 text-2xs text-ink3">
          {change.share === null ? '' : `${signed(change.share * 100)} %`}
        </span>
      </td>
      <td className="pl-4" title={said(change)}>
        {row.goal && (
          <DifferencePost
            change={change.change}
            low={difference.low}
            high={difference.high}
            beyond={difference.beyond}
            verdict={change.verdict}
            higher={row.goal.direction === 'higher'}
            said={`${words(change)}: ${said(change)}`}
          />
        )}
      </td>
      <td className={`pl-3 text-xs whitespace-nowrap ${tone(change)}`}>
        {words(change) || 'no goal'}
        {difference.beyond === null && row.goal && (
          <span className="text-2xs font-normal text-ink3"> noise unknown</span>
        )}
      </td>
    </>
  )
}
