/** A model: its ladder through time, versions, and who did what. */
import { useState } from 'react'
import { Link, useParams } from 'react-router'
import { useRollBack } from '../../api/acts'
import type { Model as ModelData, ModelVersion } from '../../api/client'
import { useJournal, useModel } from '../../api/queries'
import { Review, Section } from '../../parts/Marks'
import { ActDialog } from '../../parts/ActDialog'
import { Answer, Page, Waiting } from '../../parts/Shell'
import { arrow, decimalsOf, moment, plural, show } from '../../parts/values'
import { Ladder } from './Ladder'

export default function Model() {
  const { project = '', model: name = '' } = useParams()
  const { data: model, error } = useModel(project, name)
  const [rollingBack, setRollingBack] = useState(false)
  const rollBack = useRollBack(project, name)
  const crumbs = [{ text: 'models', to: `/${project}/models` }, { text: name }]
  if (!model) {
    return (
      <Page crumbs={crumbs} at="Models" title={name}>
        <Waiting error={error} />
      </Page>
    )
  }
  const top = [...model.stages].reverse().find((stage) => stage.occupant)
  const pending = model.versions.find((version) => version.review === 'pending')
  return (
    <Page crumbs={crumbs} at="Models" title={name}>
      <Answer
        reason={
          <>
            Ask {model.person} ·{' '}
            {model.lead
              ? `${name} resolves to version ${model.lead}${model.lead_chosen ? ', chosen' : ''}`
              : `${name} has no lead version`}
            {model.stages.flatMap((stage) => (stage.warning ? [` · ${stage.name}: ${stage.warning}`] : []))}
          </>
        }
        right={
          <>
            {top && (
              <button
                className="btn"
                disabled={!top.may_place}
                title={top.may_place ? undefined : `To place versions on ${top.name} takes another role.`}
                onClick={() => setRollingBack(true)}
              >
                Roll back {top.name}
              </button>
            )}
            {pending && (
              <Link className="btn btn-p" to={`/${project}/models/${name}/${pending.number}`}>
                Review {pending.number}
              </Link>
            )}
          </>
        }
      >
        {top ? (
          <>
            <b>
              Version {top.occupant} is {top.name === 'production' ? 'in production' : `on ${top.name}`}
            </b>{' '}
            since {moment(top.since)}
          </>
        ) : (
          <b>No version stands on a stage</b>
        )}
        {pending ? (
          <>
            ; <b>version {pending.number}</b> waits for a review.
          </>
        ) : (
          '; nothing waits for a review.'
        )}
      </Answer>
      <section className="border-y border-line px-6 pt-1" aria-label="Ladder">
        <Ladder model={model} />
      </section>
      <div className="grid grid-cols-12 content-start gap-x-6 gap-y-5 px-6 pt-3 pb-6">
        <Versions model={model} />
        <Journal project={project} name={name} />
      </div>
      {rollingBack && top && (
        <ActDialog
          title={`Roll back ${top.name}`}
          text={`Version ${top.occupant} is taken off ${top.name}; the latest earlier version that can stand takes its place. The timeline and the journal keep everything.`}
          act="Roll back"
          danger
          pending={rollBack.isPending}
          error={rollBack.error}
          onClose={() => setRollingBack(false)}
          onAct={(comment) =>
            rollBack.mutate(
              { stage: top.name, expect: top.occupant, comment },
              { onSuccess: () => setRollingBack(false) },
            )
          }
        />
      )}
    </Page>
  )
}

function Versions({ model }: { model: ModelData }) {
  const { project = '' } = useParams()
  const goals = model.versions.find((version) => version.goals.length)?.goals.slice(0, 2) ?? []
  return (
    <Section className="col-span-8" title="Versions" fact={`${model.versions.length}, none removed`}>
      <table className="w-full" aria-label="Versions">
        <thead>
          <tr className="h-[26px] text-xs text-ink2">
            <th scope="col" className="w-8 text-right">
              no.
            </th>
            <th scope="col" className="pl-5">
              run
            </th>
            {goals.map((goal) => (
              <th key={goal.key} scope="col" className="text-right">
                {goal.key}
                {arrow(goal)} {goal.unit}
              </th>
            ))}
            <th scope="col" className="pl-6">
              review
            </th>
            <th scope="col">on</th>
            <th scope="col">registered</th>
            <th scope="col">reviewed</th>
          </tr>
        </thead>
        <tbody>
          {model.versions.map((version) => (
            <tr
              key={version.number}
              className={`h-[29px] border-t border-line ${version.review === 'rejected' || version.retired ? 'text-ink3' : ''}`}
            >
              <th scope="row" className="text-right">
                <Link
                  className="strong text-base hover:underline"
                  to={`/${project}/models/${model.name}/${version.number}`}
                  aria-label={`Version ${version.number}`}
                >
                  {version.number}
                </Link>
              </th>
              <td className="pl-5">
                {version.run ? (
                  <Link className="link" to={`/${project}/e/${version.run}`}>
                    {version.run}
                  </Link>
                ) : (
                  <span title={version.origin ?? undefined}>no run</span>
                )}
              </td>
              {goals.map((goal) => (
                <td key={goal.key} className="text-right">
                  {show(
                    version.values[goal.key],
                    decimalsOf(model.versions.map((one) => one.values[goal.key])),
                  )}
                </td>
              ))}
              <td className="pl-6">
                <Review review={version.review} />
                {version.retired && ' retired'}
                {version.damaged && <span className="strong text-bad"> damaged</span>}
              </td>
              <td className="strong">{version.stages.join(', ')}</td>
              <td className="text-xs text-ink2" title={version.comment}>
                {version.registered_by}, {moment(version.registered_at)}
              </td>
              <td className="max-w-[180px] truncate text-xs text-ink2">{reviewers(version)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </Section>
  )
}

const reviewers = (version: ModelVersion) =>
  version.verdicts.length
    ? version.verdicts.map((verdict) => `${verdict.person}: “${verdict.comment}”`).join(', ')
    : 'waits for an approver'

function Journal({ project, name }: { project: string; name: string }) {
  const { data } = useJournal(project, name)
  return (
    <Section
      className="col-span-4"
      title="Journal"
      fact={data ? plural(data.length, 'entry', 'entries') : ''}
    >
      <table className="w-full table-fixed text-xs">
        <tbody>
          {data?.slice(0, 24).map((entry) => (
            <tr key={entry.entry_id} className="h-[25px] border-b border-line">
              <td className="w-[78px] text-ink3">{moment(entry.at)}</td>
              <td className="w-[76px] truncate text-ink2">{entry.person}</td>
              <td className="strong w-[112px] truncate">
                {entry.act} {entry.subject.split('@')[1]}
              </td>
              <td className="truncate text-ink2" title={entry.comment}>
                {change(entry.before, entry.after)} {entry.comment && `“${entry.comment}”`}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </Section>
  )
}

function change(before: unknown, after: unknown): string {
  if (!before || !after || typeof before !== 'object' || typeof after !== 'object') return ''
  const [stage] = Object.keys(after)
  if (!stage) return ''
  const was = (before as Record<string, unknown>)[stage]
  const is = (after as Record<string, unknown>)[stage]
  return `${stage}: ${was ?? 'empty'} → ${is ?? 'empty'}`
}
