/** Results of both versions on the same data, and whether the same rows tell them apart. */
import { Link, useParams } from 'react-router'
import type { ReviewData } from '../../api/registry'
import { DifferencePost } from '../../parts/Post'
import { Section } from '../../parts/Marks'
import { isTold, outcomeText } from '../../parts/rowsVerdict'
import { decimalsOf, moment, percentOf, runPath, show, signed } from '../../parts/values'
import { SideHead } from './SideHead'

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
          <table className="w-full" aria-label={`On ${part.on}`}>
            <SideHead what="result" number={number} other={other} />
            <tbody>
              {keysOf(part).map((key) => (
                <Row key={key} name={key} part={part} other={other} />
              ))}
            </tbody>
          </table>
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
          <Link className="link" to={runPath(project, one.run)}>
            {one.run}
          </Link>
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

function Row({ name, part, other }: { name: string; part: Part; other: number | null }) {
  const one = part.differences.find((found) => found.measure === name)
  const [left, right] = [part.candidate[name] ?? one?.left, part.other[name] ?? one?.right]
  const decimals = decimalsOf([left, right])
  return (
    <tr className="h-[28px] border-b border-line">
      <th scope="row">
        {name} {one && (one.higher_is_better ? '↑' : '↓')}
      </th>
      <td className="strong text-right">{written(left, decimals)}</td>
      {other && (
        <>
          <td className="text-right">{written(right, decimals)}</td>
          <Told one={one} />
        </>
      )}
    </tr>
  )
}

function Told({ one }: { one: Difference | undefined }) {
  if (!one)
    return (
      <>
        <td />
        <td />
        <td />
      </>
    )
  const said = verdictOf(one)
  return (
    <>
      <td className="text-right">{one.change === null ? '–' : signed(one.change)}</td>
      <td className="pl-5">
        <DifferencePost
          change={one.change ?? 0}
          low={one.low}
          high={one.high}
          beyond={isTold(one)}
          verdict={said.verdict}
          higher={one.higher_is_better}
          said={said.word}
        />
      </td>
      <td className={`pl-3 text-xs whitespace-nowrap ${said.tone}`} title={one.method}>
        {said.word}
      </td>
    </>
  )
}
