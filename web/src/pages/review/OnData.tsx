/** Results of both versions on the same data, and whether the same rows tell them apart. */
import { useParams } from 'react-router'
import type { ReviewData } from '../../api/registry'
import { DifferencePost } from '../../parts/Post'
import { Section } from '../../parts/Marks'
import { isTold, outcomeText } from '../../parts/rowsVerdict'
import { RunLink } from '../../parts/RunLink'
import { decimalsOf, moment, percentOf, show, signed } from '../../parts/values'
import { SideHead } from './SideHead'
import { DataTable, type Column } from '../../parts/DataTable'

type Part = ReviewData['on_data'][number]
type Difference = Part['differences'][number]

const TONES = { better: 'strong text-accent', worse: 'strong text-bad' }

function verdictOf(one: Difference): { word: string; verdict: 'better' | 'worse' | 'equal'; tone: string } {
  if (one.outcome === 'better' || one.outcome === 'worse')
    return { word: one.outcome, verdict: one.outcome, tone: TONES[one.outcome] }
  return { word: outcomeText(one), verdict: 'equal', tone: 'text-ink3' }
}

export function OnData({ review }: { review: ReviewData }) {
  const { project = '' } = useParams()
  const number = review.candidate.number
  const other = review.other?.number ?? null
  return (
    <>
      {review.on_data.map((part) => (
        <Section
          key={part.on}
          title={`On ${part.on}`}
          fact={
            part.differences[0]
              ? `the same ${part.differences[0].rows.toLocaleString('en')} rows, ${percentOf(part.differences[0].confidence)}`
              : part.note || 'its results there'
          }
        >
          {part.same_data === false && (
            <p className="text-xs text-bad">Both call it {part.on}, and it is not the same data.</p>
          )}
          <DataTable
            label={`On ${part.on}`}
            className="w-full"
            rows={rowsOf(part)}
            keyOf={(row) => row.name}
            line="h-[28px] border-b border-line"
            head={<SideHead what="result" number={number} other={other} />}
            columns={[
              {
                name: 'result',
                heads: true,
                cell: ({ name, told }) => (
                  <>
                    {name} {told && (told.higher_is_better ? '↑' : '↓')}
                  </>
                ),
              },
              { name: 'candidate', right: true, className: 'strong', cell: (row) => row.left },
              other !== null && { name: 'other', right: true, cell: (row) => row.right },
              ...(other === null ? [] : TOLD),
            ]}
          />
          <Evidence project={project} every={review.candidate.evidence.filter((one) => one.on === part.on)} />
        </Section>
      ))}
      {Object.entries(review.candidate.left_out_evidence).map(([on, reason]) => (
        <p key={on} className="lab">
          Evidence of its run on {on} was left out: {reason}.
        </p>
      ))}
      {review.on_data.length === 0 && (
        <Section title="Evidence" fact="none yet">
          <p className="lab py-1">
            Nothing says how it does on named data. Add a run that judged it below, or{' '}
            <code className="mono">
              kinetrum evidence {review.candidate.reference} --on NAME --predictions FILE
            </code>
          </p>
        </Section>
      )}
    </>
  )
}

type EvidenceOf = ReviewData['candidate']['evidence'][number]

/** Who added the evidence, when, from which run and on which data; what it replaced stands below with its figures. */
function Evidence({ project, every }: { project: string; every: EvidenceOf[] }) {
  return (
    <ol className="mt-1 text-xs text-ink2" aria-label="Evidence">
      {[...every].reverse().map((one, at) => (
        <li key={one.id} className={at > 0 ? 'pl-4 text-ink3' : undefined}>
          {at === 0 ? 'Added' : 'It replaced what was added'} by {one.person}, {moment(one.at)}, from{' '}
          <RunLink project={project} run={one.run} />
          {one.digest ? (
            <>
              , data <span className="mono">sha256:{one.digest.slice(0, 8)}</span>
            </>
          ) : (
            <span className="text-bad">, no fingerprint of the data</span>
          )}
          {at > 0 && `: ${figuresOf(one)}`}
          {one.refusal && <span className="strong block text-bad">It does not count: {one.refusal}.</span>}
        </li>
      ))}
    </ol>
  )
}

const figuresOf = (one: EvidenceOf) =>
  Object.entries(one.results)
    .map(([key, value]) => `${key} ${show(value)}`)
    .join(', ') || 'predictions alone'

const keysOf = (part: Part) => [
  ...new Set([
    ...part.differences.map((one) => one.measure),
    ...Object.keys(part.candidate),
    ...Object.keys(part.other),
  ]),
]

const written = (value: unknown, decimals: number | undefined) =>
  value === undefined ? '–' : show(value, typeof value === 'number' ? decimals : undefined)

/** A result on named data of both versions, with what the same rows tell. */
type ResultRow = { name: string; left: string; right: string; told: Difference | undefined }

function rowsOf(part: Part): ResultRow[] {
  return keysOf(part).map((name) => {
    const told = part.differences.find((found) => found.measure === name)
    const [left, right] = [part.candidate[name] ?? told?.left, part.other[name] ?? told?.right]
    const decimals = decimalsOf([left, right])
    return { name, left: written(left, decimals), right: written(right, decimals), told }
  })
}

const TOLD: Column<ResultRow>[] = [
  {
    name: 'difference',
    right: true,
    cell: ({ told }) => told && (told.change === null ? '–' : signed(told.change)),
  },
  {
    name: 'interval',
    className: 'pl-5',
    cell: ({ told }) =>
      told && (
        <DifferencePost
          change={told.change ?? 0}
          low={told.low}
          high={told.high}
          beyond={isTold(told)}
          verdict={verdictOf(told).verdict}
          higher={told.higher_is_better}
          said={verdictOf(told).word}
        />
      ),
  },
  {
    name: 'verdict',
    className: ({ told }) => `pl-3 text-xs whitespace-nowrap ${told ? verdictOf(told).tone : ''}`,
    title: ({ told }) => told?.method,
    cell: ({ told }) => told && verdictOf(told).word,
  },
]
