/** Values of both versions: of runs with replicates means, and whether they differ beyond noise. */
import { useParams } from 'react-router'
import { useComparison, type Outcome } from '../../api/comparing'
import type { ReviewData } from '../../api/registry'
import { DifferencePost } from '../../parts/Post'
import { Section } from '../../parts/Marks'
import { arrow, decimalsOf, goalsFirst, show, signed } from '../../parts/values'
import { SideHead } from './SideHead'
import { DataTable, type Column } from '../../parts/DataTable'

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
      <DataTable
        label="Side by side"
        className="w-full"
        rows={keys.map((key) => {
          const [left, right] = [candidate.values[key], other?.values[key]]
          const decimals = decimalsOf([left, right])
          const text = (value: unknown) =>
            value === undefined ? '–' : show(value, typeof value === 'number' ? decimals : undefined)
          return { key, goal: goals.get(key), left: text(left), right: text(right) }
        })}
        keyOf={(row) => row.key}
        line="h-[28px] border-b border-line"
        head={<SideHead what="value" number={candidate.number} other={other?.number ?? null} />}
        columns={[
          {
            name: 'value',
            heads: true,
            cell: ({ key, goal }) => (
              <>
                {key}
                {arrow(goal)} <span className="text-2xs text-ink3">{goal?.unit}</span>
              </>
            ),
          },
          { name: 'candidate', right: true, className: 'strong', cell: (row) => row.left },
          other !== null && { name: 'other', right: true, cell: (row) => row.right },
          ...(other === null ? [] : differenceColumns((key) => outcomes.get(key))),
        ]}
      />
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

/** What tells both runs apart in a value: the difference, where it lies with its interval, and that in a word. */
function differenceColumns(outcomeOf: (key: string) => Outcome | undefined): Column<{ key: string }>[] {
  const changeOf = (key: string) => outcomeOf(key)?.changes[0]
  const wordOf = (key: string) => {
    const change = changeOf(key)
    return change?.difference.beyond === false ? 'within noise' : (change?.verdict ?? '')
  }
  const toneOf = (key: string) => {
    const change = changeOf(key)
    return change?.difference.beyond === false
      ? 'text-ink3'
      : change?.verdict === 'worse'
        ? 'text-bad'
        : 'text-accent'
  }
  return [
    {
      name: 'difference',
      right: true,
      cell: ({ key }) => {
        const change = changeOf(key)
        return change ? signed(change.change) : ''
      },
    },
    {
      name: 'interval',
      className: 'pl-5',
      cell: ({ key }) => {
        const [outcome, change] = [outcomeOf(key), changeOf(key)]
        return (
          outcome?.goal &&
          change && (
            <DifferencePost
              change={change.change}
              low={change.difference.low}
              high={change.difference.high}
              beyond={change.difference.beyond}
              verdict={change.verdict}
              higher={outcome.goal.direction === 'higher'}
              said={wordOf(key)}
            />
          )
        )
      },
    },
    {
      name: 'verdict',
      className: ({ key }) => `pl-3 text-xs whitespace-nowrap ${toneOf(key)}`,
      cell: ({ key }) => wordOf(key),
    },
  ]
}
