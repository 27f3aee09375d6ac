/** Values of both versions: of runs with replicates means, and whether they differ beyond noise. */
import { useParams } from 'react-router'
import { useComparison, type Outcome } from '../../api/comparing'
import type { ReviewData } from '../../api/registry'
import { DifferencePost } from '../../parts/Post'
import { Section } from '../../parts/Marks'
import { arrow, decimalsOf, goalsFirst, show, signed } from '../../parts/values'
import { SideHead } from './SideHead'

/** The runs that may be compared in the place of the versions, or what to say in their place. */
function comparable({ step, run }: ReviewData['candidate'], other: ReviewData['other']) {
  // Of a checkpoint the values are those of its step: what tells two whole runs apart says nothing of them.
  if (step !== null || (other?.step ?? null) !== null)
    return { runs: [], unless: 'at the steps of the checkpoints' }
  if (run && other?.run && run !== other.run) return { runs: [run, other.run], unless: '' }
  return { runs: [], unless: other ? 'no two runs to compare' : '' }
}

export function Values({ review }: { review: ReviewData }) {
  const { project = '' } = useParams()
  const { candidate, other } = review
  const { runs, unless } = comparable(candidate, other)
  const comparison = useComparison(project, runs, 1, false)
  const outcomes = new Map(comparison.data?.outcomes.map((row) => [row.key, row]))
  const goals = new Map(candidate.goals.map((goal) => [goal.key, goal]))
  const keys = goalsFirst(Object.keys(candidate.values), candidate.goals)
  return (
    <Section title="Side by side" fact={comparison.data?.headline.reason ?? unless}>
      <table className="w-full" aria-label="Side by side">
        <SideHead what="value" number={candidate.number} other={other?.number ?? null} />
        <tbody>
          {keys.map((key) => {
            const goal = goals.get(key)
            const [left, right] = [candidate.values[key], other?.values[key]]
            const decimals = decimalsOf([left, right])
            const text = (value: unknown) =>
              value === undefined ? '–' : show(value, typeof value === 'number' ? decimals : undefined)
            return (
              <tr key={key} className="h-[28px] border-b border-line">
                <th scope="row">
                  {key}
                  {arrow(goal)} <span className="text-2xs text-ink3">{goal?.unit}</span>
                </th>
                <td className="strong text-right">{text(left)}</td>
                {other && (
                  <>
                    <td className="text-right">{text(right)}</td>
                    <Difference row={outcomes.get(key)} />
                  </>
                )}
              </tr>
            )
          })}
        </tbody>
      </table>
      {[candidate, ...(other ? [other] : [])].map((version) => (
        <Said key={version.number} version={version} />
      ))}
    </Section>
  )
}

/** Which values of a checkpoint are of an earlier step than its own, and what of its run says nothing of it. */
function Said({ version }: { version: ReviewData['candidate'] }) {
  const earlier = Object.entries(version.earlier)
  if (version.step === null || (earlier.length === 0 && version.left_out.length === 0)) return null
  return (
    <p className="lab mt-1">
      Version {version.number} is the checkpoint of step {version.step}.
      {earlier.map(([key, step]) => ` ${key} is that of step ${step}, the latest before.`)}
      {version.left_out.length > 0 &&
        ` Left out, because they are not of that step: ${version.left_out.join(', ')}.`}
    </p>
  )
}

function Difference({ row }: { row: Outcome | undefined }) {
  const change = row?.changes[0]
  if (!row || !change)
    return (
      <>
        <td />
        <td />
        <td />
      </>
    )
  const { difference, verdict } = change
  const word = difference.beyond === false ? 'within noise' : (verdict ?? '')
  const tone = difference.beyond === false ? 'text-ink3' : verdict === 'worse' ? 'text-bad' : 'text-accent'
  return (
    <>
      <td className="text-right">{change.change === null ? '' : signed(change.change)}</td>
      <td className="pl-5">
        {row.goal && change.change !== null && (
          <DifferencePost
            change={change.change}
            low={difference.low}
            high={difference.high}
            beyond={difference.beyond}
            verdict={verdict}
            higher={row.goal.direction === 'higher'}
            said={word}
          />
        )}
      </td>
      <td className={`pl-3 text-xs whitespace-nowrap ${tone}`}>{word}</td>
    </>
  )
}
