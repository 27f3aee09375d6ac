/** One version against the occupant: results side by side, where both come from, verdict and promotion. */
import { useState } from 'react'
import { Link, useParams } from 'react-router'
import { useDemote, usePromote, useVerdict } from '../../api/acts'
import { useComparison, type Outcome } from '../../api/comparing'
import type { Model, ModelVersion, Schemas } from '../../api/client'
import { useMe, useModel, useModelVersion } from '../../api/queries'
import { ActDialog } from '../../parts/ActDialog'
import { Fact, Review as ReviewMark, Section } from '../../parts/Marks'
import { DifferencePost, PostHead } from '../../parts/Post'
import { Answer, Page, Waiting } from '../../parts/Shell'
import { arrow, bytes, decimalsOf, goalsFirst, moment, plural, show, signed } from '../../parts/values'

type Detail = Schemas['ModelVersionDetail']

function VersionPost({ row }: { row: Outcome }) {
  if (!row.goal || row.change === null) return null
  return (
    <DifferencePost
      change={row.change}
      low={null}
      high={null}
      beyond={null}
      verdict={row.verdict}
      higher={row.goal.direction === 'higher'}
      said={row.verdict ?? ''}
    />
  )
}

export default function Review() {
  const { project = '', model: name = '', version: which = '' } = useParams()
  const model = useModel(project, name)
  const version = useModelVersion(project, name, which)
  const crumbs = [
    { text: 'models', to: `/${project}/models` },
    { text: name, to: `/${project}/models/${name}` },
    { text: `version ${version.data?.number ?? which}` },
  ]
  if (!model.data || !version.data) {
    return (
      <Page crumbs={crumbs} at="Models" title={`${name}@${which}`}>
        <Waiting error={model.error ?? version.error} />
      </Page>
    )
  }
  const top = model.data.stages.at(-1)
  const occupant = model.data.versions.find((one) => one.number === top?.occupant)
  const against = occupant && occupant.number !== version.data.number ? occupant : undefined
  return (
    <Page crumbs={crumbs} at="Models" title={version.data.reference}>
      <State version={version.data} against={against} stage={top?.name} />
      <div className="grid grid-cols-12 content-start gap-x-6 gap-y-5 px-6 pb-6">
        <div className="col-span-7 flex flex-col gap-5">
          <SideBySide version={version.data} against={against} />
          <Files version={version.data} />
        </div>
        <div className="col-span-5 flex flex-col gap-5">
          <Verdict model={model.data} version={version.data} />
          <Placing model={model.data} version={version.data} />
          <Section title="Where it comes from">
            <dl className="text-xs">
              <Fact term="run">
                {version.data.run ? (
                  <Link className="link" to={`/${project}/e/${version.data.run}`}>
                    {version.data.run}
                  </Link>
                ) : (
                  version.data.origin
                )}
              </Fact>
              <Fact term="files">
                <Link
                  className="link mono"
                  to={`/${project}/data/${version.data.artifact.name}?version=${version.data.artifact.number}`}
                >
                  {version.data.artifact.reference}
                </Link>
              </Fact>
              <Fact term="lineage">
                <Link className="link" to={`/${project}/lineage?of=${version.data.reference}`}>
                  back to the raw data
                </Link>
              </Fact>
              <Fact term="digest">
                <span className="mono">sha256:{version.data.artifact.digest}</span>
              </Fact>
              <Fact term="fetch">
                <span className="mono">kinetrum fetch {version.data.reference} -o .</span>
              </Fact>
            </dl>
          </Section>
        </div>
      </div>
    </Page>
  )
}

function State({
  version,
  against,
  stage,
}: {
  version: Detail
  against: ModelVersion | undefined
  stage: string | undefined
}) {
  return (
    <Answer
      reason={
        <>
          {version.run ? `From ${version.run}` : `Origin: ${version.origin}`}, registered by{' '}
          {version.registered_by} {moment(version.registered_at)}
          {version.comment && ` · “${version.comment}”`}
        </>
      }
    >
      <b>
        Version {version.number} is {version.review}
      </b>
      {version.stages.length > 0 && `, on ${version.stages.join(' and ')}`}
      {version.retired && ', retired'}
      {version.damaged && <b className="text-bad">, its stored files are damaged</b>}
      {against && stage ? `; version ${against.number} stands on ${stage}.` : '.'}
    </Answer>
  )
}

function SideBySide({ version, against }: { version: Detail; against: ModelVersion | undefined }) {
  const { project = '' } = useParams()
  const runs = version.run && against?.run && version.run !== against.run ? [version.run, against.run] : []
  const comparison = useComparison(project, runs, 1, true)
  const outcomes = new Map(comparison.data?.outcomes.map((row) => [row.key, row]))
  const goals = new Map(version.goals.map((goal) => [goal.key, goal]))
  const keys = goalsFirst(Object.keys(version.values), version.goals)
  return (
    <Section
      title="Side by side"
      fact={against ? 'one run each: noise is not known yet' : 'nothing to compare with'}
    >
      <table className="w-full" aria-label="Side by side">
        <thead>
          <tr className="lab h-6">
            <th scope="col">key</th>
            <th scope="col" className="text-right">
              {version.number}
            </th>
            {against && (
              <>
                <th scope="col" className="text-right">
                  {against.number}
                </th>
                <th scope="col" className="text-right">
                  {version.number} − {against.number}
                </th>
                <th scope="col" className="pl-5">
                  <PostHead />
                </th>
                <td />
              </>
            )}
          </tr>
        </thead>
        <tbody>
          {keys.map((key) => {
            const goal = goals.get(key)
            const other = against?.values[key]
            const row = outcomes.get(key)
            const decimals = decimalsOf([version.values[key], other])
            const text = (value: unknown) => show(value, typeof value === 'number' ? decimals : undefined)
            return (
              <tr key={key} className="h-[28px] border-b border-line">
                <th scope="row">
                  {key}
                  {arrow(goal)} <span className="text-2xs text-ink3">{goal?.unit}</span>
                </th>
                <td className="strong text-right">{text(version.values[key])}</td>
                {against && (
                  <>
                    <td className="text-right">{text(other)}</td>
                    <td className="text-right">{row?.change === null || !row ? '' : signed(row.change)}</td>
                    <td className="pl-5">{row && <VersionPost row={row} />}</td>
                    <td
                      className={`pl-3 text-xs ${row?.verdict === 'better' ? 'strong text-accent' : row?.verdict === 'worse' ? 'strong text-bad' : 'text-ink3'}`}
                    >
                      {row?.verdict ?? ''}
                    </td>
                  </>
                )}
              </tr>
            )
          })}
        </tbody>
      </table>
    </Section>
  )
}

function Files({ version }: { version: Detail }) {
  return (
    <Section
      title="Files"
      fact={`${plural(version.files.length, 'file')}, ${bytes(version.artifact.size_bytes)}`}
    >
      <table className="w-full text-xs">
        <tbody>
          {version.files.slice(0, 40).map((file) => (
            <tr key={file.path} className="h-[25px] border-b border-line">
              <th scope="row" className="mono">
                {file.path}
              </th>
              <td className="text-right">{bytes(file.size)}</td>
              <td className="mono pl-4 text-right text-ink3">{file.sha256.slice(0, 16)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </Section>
  )
}

function Verdict({ model, version }: { model: Model; version: Detail }) {
  const { project = '' } = useParams()
  const { data: me } = useMe()
  const give = useVerdict(project, model.name, version.number)
  const [comment, setComment] = useState('')
  const may = model.may.includes('review')
  const mine = version.verdicts.find((verdict) => verdict.person === me?.full_name)
  const act = (verdict: 'approve' | 'reject' | null) =>
    give.mutate({ verdict, comment }, { onSuccess: () => setComment('') })
  const approvals = version.verdicts.filter((verdict) => verdict.approves).length
  return (
    <Section
      title="Verdict"
      fact={
        <>
          <ReviewMark review={version.review} /> · {approvals} of{' '}
          {plural(version.approvals_needed, 'approval')}
        </>
      }
    >
      {version.verdicts.map((verdict) => (
        <p key={verdict.person} className="border-l-2 border-line2 py-0.5 pl-2 text-xs">
          <b className="strong">{verdict.person}</b> {verdict.approves ? 'approved' : 'rejected'}{' '}
          {moment(verdict.given_at)}
          {verdict.comment && `: “${verdict.comment}”`}
        </p>
      ))}
      <label className="mt-2 flex flex-col gap-1 text-xs text-ink2">
        Comment, kept in the journal
        <textarea
          className="field text-sm"
          rows={3}
          maxLength={4000}
          disabled={!may}
          value={comment}
          onChange={(event) => setComment(event.target.value)}
        />
      </label>
      <div className="mt-2 flex gap-2">
        <button className="btn btn-p" disabled={!may || give.isPending} onClick={() => act('approve')}>
          Approve
        </button>
        <button className="btn btn-bad" disabled={!may || give.isPending} onClick={() => act('reject')}>
          Reject
        </button>
        {mine && (
          <button className="btn" disabled={give.isPending} onClick={() => act(null)}>
            Take my verdict back
          </button>
        )}
      </div>
      {!may && (
        <p className="lab mt-1">
          To approve or reject takes an approver; you may look and comment elsewhere.
        </p>
      )}
      {give.error && (
        <p role="alert" className="mt-1 text-xs text-bad">
          {give.error.message}
        </p>
      )}
    </Section>
  )
}

function Placing({ model, version }: { model: Model; version: Detail }) {
  const { project = '' } = useParams()
  const promote = usePromote(project, model.name)
  const demote = useDemote(project, model.name)
  const [asked, setAsked] = useState<{ stage: Model['stages'][number]; act: 'promote' | 'demote' } | null>(
    null,
  )
  const act = asked?.act === 'demote' ? demote : promote
  const close = () => {
    promote.reset()
    demote.reset()
    setAsked(null)
  }
  return (
    <Section title="Stages" fact="it stays on the stages it had">
      <table className="w-full" aria-label="Stages">
        <tbody>
          {[...model.stages].reverse().map((stage) => {
            const here = stage.occupant === version.number
            const why = here
              ? null
              : !stage.may_place
                ? `takes ${stage.least_role === 'approver' ? 'an approver' : `a ${stage.least_role}`}`
                : version.obstacles[stage.name]
            return (
              <tr key={stage.name} className="h-9 border-b border-line">
                <th scope="row" className="pr-4">
                  {stage.name}
                </th>
                <td className="text-xs whitespace-nowrap text-ink2">
                  {stage.occupant ? `version ${stage.occupant} since ${moment(stage.since)}` : 'empty'}
                  {stage.warning && <span className="strong block text-bad">{stage.warning}</span>}
                </td>
                <td className="py-1 text-right">
                  {here ? (
                    <button
                      className="btn"
                      disabled={!stage.may_place}
                      onClick={() => setAsked({ stage, act: 'demote' })}
                    >
                      Demote
                    </button>
                  ) : (
                    <button
                      className="btn btn-p"
                      disabled={!!why}
                      onClick={() => setAsked({ stage, act: 'promote' })}
                    >
                      Promote to {stage.name}
                    </button>
                  )}
                  {why && <span className="lab block pl-4">{why}</span>}
                </td>
              </tr>
            )
          })}
        </tbody>
      </table>
      {asked && (
        <ActDialog
          title={
            asked.act === 'promote'
              ? `Promote version ${version.number} to ${asked.stage.name}`
              : `Demote version ${version.number} from ${asked.stage.name}`
          }
          text={
            asked.act === 'demote'
              ? `${asked.stage.name} is empty afterwards and forgets its earlier versions for roll backs.`
              : asked.stage.occupant
                ? `It takes the place of version ${asked.stage.occupant}; rolling back brings that one back.`
                : `${asked.stage.name} is empty now.`
          }
          act={asked.act === 'promote' ? 'Promote' : 'Demote'}
          danger={asked.act === 'demote'}
          pending={act.isPending}
          error={act.error}
          onClose={close}
          onAct={(comment) => {
            const placing = { stage: asked.stage.name, expect: asked.stage.occupant, comment }
            if (asked.act === 'promote')
              promote.mutate({ ...placing, version: version.number }, { onSuccess: close })
            else demote.mutate(placing, { onSuccess: close })
          }}
        />
      )}
    </Section>
  )
}
