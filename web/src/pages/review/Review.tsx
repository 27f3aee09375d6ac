/** One version against a stage's occupant, or against any other: gates, results on the same data, what changed, verdict. */
import { useParams } from 'react-router'
import { useModel } from '../../api/queries'
import { useReview, type ReviewData } from '../../api/registry'
import type { Model } from '../../api/client'
import { Notes } from '../../parts/Notes'
import { useAddress } from '../../parts/selection'
import { Answer, Page, Waiting } from '../../parts/Shell'
import { moment } from '../../parts/values'
import { Checks } from './Checks'
import { OnData } from './OnData'
import { Changes, Origins } from './Origins'
import { Placing } from './Placing'
import { Plots } from './Plots'
import { Values } from './Values'
import { Verdict } from './Verdict'

export default function Review() {
  const { project = '', model: name = '', version: which = '' } = useParams()
  const { params } = useAddress()
  const model = useModel(project, name)
  const review = useReview(project, name, which, params.get('stage'), params.get('against'))
  const found = review.data
  const crumbs = [
    { text: 'models', to: `/${project}/models` },
    { text: name, to: `/${project}/models/${name}` },
    { text: `version ${found?.candidate.number ?? which}` },
  ]
  if (!model.data || !found) {
    return (
      <Page crumbs={crumbs} at="Models" title={`${name}@${which}`}>
        <Waiting error={model.error ?? review.error} />
      </Page>
    )
  }
  return (
    <Page crumbs={crumbs} at="Models" title={found.candidate.reference}>
      <State review={found} />
      <div className="grid grid-cols-12 content-start gap-x-6 gap-y-5 px-6 pb-6">
        <div className="col-span-7 flex min-w-0 flex-col gap-5">
          {found.stage && <Checks stage={found.stage} checks={found.checks} />}
          <OnData review={found} />
          <Plots review={found} />
          <Values review={found} />
        </div>
        <div className="col-span-5 flex min-w-0 flex-col gap-5">
          <Verdict model={model.data} version={found.candidate} />
          <Placing model={model.data} version={found.candidate} shown={found.stage} />
          <Notes
            project={project}
            of={found.candidate.reference}
            may={!model.data.why_not['describe']}
            whyNot={model.data.why_not['describe']}
          />
          <Against model={model.data} review={found} />
          <Changes review={found} />
          <Origins model={model.data} version={found.candidate} />
        </div>
      </div>
    </Page>
  )
}

/** The finding is bold: what comes before the first colon or full stop. */
function split(sentence: string): [string, string] {
  const end = /[:.](?=\s|$)/.exec(sentence)
  return end ? [sentence.slice(0, end.index), sentence.slice(end.index)] : [sentence, '']
}

function State({ review }: { review: ReviewData }) {
  const { candidate, other } = review
  const [finding, rest] = split(review.sentence)
  return (
    <Answer
      reason={
        <>
          {candidate.reference} is {candidate.review}
          {candidate.stages.length > 0 && `, on ${candidate.stages.join(' and ')}`}
          {candidate.retired && ', retired'}
          {candidate.damaged && <b className="text-bad">, its stored files are damaged</b>}
          {candidate.run
            ? `, from ${candidate.run}${candidate.step === null ? '' : `, its checkpoint of step ${candidate.step}`}`
            : `, from elsewhere: ${candidate.origin}`}
          , by {candidate.registered_by} {moment(candidate.registered_at)}
          {candidate.imported_from && `, imported from ${candidate.imported_from}`}
          {candidate.comment && ` · “${candidate.comment}”`}
          {other && ` · beside ${other.reference}${other.run ? ` from ${other.run}` : ''}`}
        </>
      }
    >
      <b>{finding}</b>
      {rest}
      {review.emptied && <span className="block text-bad">{review.emptied}.</span>}
    </Answer>
  )
}

/** Which version it is put beside, in the place of a stage's occupant. */
function Against({ model, review }: { model: Model; review: ReviewData }) {
  const { params, changeAll } = useAddress()
  return (
    <label className="flex items-center gap-2 text-xs text-ink2">
      Beside
      <select
        className="field py-0 text-xs"
        value={params.get('against') ?? ''}
        onChange={(event) => changeAll({ against: event.target.value || null })}
      >
        <option value="">the occupant of a stage</option>
        {model.versions
          .filter((version) => version.number !== review.candidate.number)
          .map((version) => (
            <option key={version.number} value={version.number}>
              version {version.number}
            </option>
          ))}
      </select>
    </label>
  )
}
