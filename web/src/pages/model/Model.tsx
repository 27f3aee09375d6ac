/** A model: its ladder through time, versions, and who did what. */
import { useState } from 'react'
import { Link, useParams } from 'react-router'
import { useRollBack } from '../../api/acts'
import { useModel } from '../../api/queries'
import { ActDialog } from '../../parts/ActDialog'
import { Notes } from '../../parts/Notes'
import { Answer, Page, Waiting } from '../../parts/Shell'
import { useBinning } from '../../parts/useBinning'
import { moment } from '../../parts/values'
import { Card } from './Card'
import { Gates } from './Gates'
import { Fetches, Journal } from './Happened'
import { Ladder } from './Ladder'
import { Rules } from './Rules'
import { Timeline } from './Timeline'
import { Versions } from './Versions'

export default function Model() {
  const { project = '', model: name = '' } = useParams()
  const { data: model, error } = useModel(project, name)
  const [rollingBack, setRollingBack] = useState<string | null>(null)
  const rollBack = useRollBack(project, name)
  const { giveBack, pending: restoring } = useBinning(project)
  const crumbs = [{ text: 'models', to: `/${project}/models` }, { text: name }]
  if (!model) {
    return (
      <Page crumbs={crumbs} at="Models" title={name}>
        <Waiting error={error} />
      </Page>
    )
  }
  const top = [...model.stages].reverse().find((stage) => stage.occupant)
  const from = model.stages.find((stage) => stage.name === rollingBack)
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
            {model.imported_from && ` · imported from ${model.imported_from}`}
            {model.binned_at && <b className="text-bad"> · in the bin since {moment(model.binned_at)}</b>}
          </>
        }
        right={
          <>
            {model.binned_at && (
              <button
                className="btn"
                disabled={restoring || !!model.why_not['rule']}
                onClick={() => giveBack([`model:${name}`])}
              >
                Restore
              </button>
            )}
            {model.stages
              .filter((stage) => stage.occupant && (stage === top || stage.warning))
              .map((stage) => (
                <button
                  key={stage.name}
                  className={`btn ${stage.warning ? 'btn-bad' : ''}`}
                  disabled={!!stage.why_not}
                  title={stage.why_not ?? undefined}
                  onClick={() => setRollingBack(stage.name)}
                >
                  Roll back {stage.name}
                </button>
              ))}
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
        <div className="col-span-8 flex min-w-0 flex-col gap-5">
          <Versions model={model} />
          <Card model={model} />
          <Gates model={model} />
          <Timeline model={model} />
        </div>
        <div className="col-span-4 flex min-w-0 flex-col gap-5">
          <Rules model={model} />
          <Notes
            project={project}
            of={`model:${name}`}
            may={!model.why_not['describe']}
            whyNot={model.why_not['describe']}
          />
          <Fetches project={project} name={name} />
          <Journal project={project} name={name} />
        </div>
      </div>
      {from?.occupant && (
        <ActDialog
          title={`Roll back ${from.name}`}
          text={`Version ${from.occupant} is taken off ${from.name}; the latest earlier version that can stand takes its place. The timeline and the journal keep everything.`}
          act="Roll back"
          danger
          pending={rollBack.isPending}
          error={rollBack.error}
          onClose={() => setRollingBack(null)}
          onAct={(comment) =>
            rollBack.mutate(
              { stage: from.name, expect: from.occupant, comment },
              { onSuccess: () => setRollingBack(null) },
            )
          }
        />
      )}
    </Page>
  )
}
