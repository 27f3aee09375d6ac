/** Where the version may stand: promote through gates, demote, and why not. */
import { useState } from 'react'
import { useParams } from 'react-router'
import { useDemote, usePromote } from '../../api/acts'
import type { Model, Schemas } from '../../api/client'
import { useReview } from '../../api/registry'
import { ActDialog } from '../../parts/ActDialog'
import { DialogForm } from '../../parts/DialogForm'
import { Section } from '../../parts/Marks'
import { useAddress } from '../../parts/selection'
import { moment } from '../../parts/values'
import { Comment, TextArea } from '../../parts/TextArea'
import { DataTable } from '../../parts/DataTable'

type Version = Schemas['ModelVersionDetail']
type Stage = Model['stages'][number]

export function Placing({ model, version, shown }: { model: Model; version: Version; shown: string | null }) {
  const { project = '' } = useParams()
  const { changeAll } = useAddress()
  const demote = useDemote(project, model.name)
  const [asked, setAsked] = useState<{ stage: Stage; act: 'promote' | 'demote' } | null>(null)
  const close = () => {
    demote.reset()
    setAsked(null)
  }
  return (
    <Section title="Stages" fact="it stays on the stages it had">
      <DataTable
        label="Stages"
        className="w-full"
        rows={[...model.stages].reverse()}
        keyOf={(stage) => stage.name}
        line={(stage) => `h-9 border-b border-line ${stage.name === shown ? 'bg-soft' : ''}`}
        columns={[
          {
            name: 'stage',
            heads: true,
            className: 'pr-4 pl-1',
            cell: (stage) => (
              <button
                className="hover:underline"
                aria-pressed={stage.name === shown}
                title={`Put it beside the occupant of ${stage.name}`}
                onClick={() => changeAll({ stage: stage.name, against: null })}
              >
                {stage.name}
              </button>
            ),
          },
          {
            name: 'occupant',
            className: 'text-xs whitespace-nowrap text-ink2',
            cell: (stage) => (
              <>
                {stage.occupant ? `version ${stage.occupant} since ${moment(stage.since)}` : 'empty'}
                {stage.warning && <span className="strong block text-bad">{stage.warning}</span>}
              </>
            ),
          },
          {
            name: 'act',
            right: true,
            className: 'py-1',
            cell: (stage) => (
              <Act stage={stage} version={version} onAsk={(act) => setAsked({ stage, act })} />
            ),
          },
        ]}
      />
      {asked?.act === 'promote' && (
        <Promote model={model} version={version} stage={asked.stage} onClose={close} />
      )}
      {asked?.act === 'demote' && (
        <ActDialog
          title={`Demote version ${version.number} from ${asked.stage.name}`}
          text={`${asked.stage.name} is empty afterwards and forgets its earlier versions for roll backs.`}
          act="Demote"
          danger
          pending={demote.isPending}
          error={demote.error}
          onClose={close}
          onAct={(comment) =>
            demote.mutate(
              { stage: asked.stage.name, expect: asked.stage.occupant, comment },
              { onSuccess: close },
            )
          }
        />
      )}
    </Section>
  )
}

function Act(props: { stage: Stage; version: Version; onAsk: (act: 'promote' | 'demote') => void }) {
  const { stage, version, onAsk } = props
  if (stage.occupant === version.number)
    return (
      <button
        className="btn"
        disabled={!!stage.why_not}
        title={stage.why_not ?? undefined}
        onClick={() => onAsk('demote')}
      >
        Demote
      </button>
    )
  const why = stage.why_not ?? version.obstacles[stage.name]
  return (
    <>
      <button className="btn btn-p" disabled={!!why} onClick={() => onAsk('promote')}>
        Promote to {stage.name}
      </button>
      {why && <span className="lab block pl-4">{why}</span>}
    </>
  )
}

function Promote({
  model,
  version,
  stage,
  onClose,
}: {
  model: Model
  version: Version
  stage: Stage
  onClose: () => void
}) {
  const { project = '' } = useParams()
  const promote = usePromote(project, model.name)
  const seen = useReview(project, model.name, String(version.number), stage.name, null)
  const [comment, setComment] = useState('')
  const [override, setOverride] = useState('')
  // Gates of the stage asked for here, not of the one that the page shows meanwhile. What changes while the dialog
  // is open comes by itself and holds up no click; the service asks the gates once more.
  const asking = seen.isFetching && seen.data?.stage !== stage.name
  const checks = seen.data?.stage === stage.name ? seen.data.checks : []
  const unmet = checks.filter((check) => !check.met)
  const why = model.why_not['override']
  // The occupant that was seen when the dialog opened.
  const [expect] = useState(stage.occupant)
  const submit = () =>
    promote.mutate(
      { stage: stage.name, expect, comment, version: version.number, ...(override ? { override } : {}) },
      { onSuccess: onClose },
    )
  return (
    <DialogForm
      title={`Promote version ${version.number} to ${stage.name}`}
      act={unmet.length ? 'Promote all the same' : 'Promote'}
      error={promote.error}
      pending={promote.isPending || asking || (unmet.length > 0 && !override.trim())}
      onSubmit={submit}
      onClose={onClose}
    >
      <p className="text-sm text-ink2">
        {expect
          ? `It takes the place of version ${expect}; rolling back brings that one back.`
          : `${stage.name} is empty now.`}
      </p>
      {asking && <p className="lab">Asking the gates …</p>}
      {checks.length > 0 && unmet.length === 0 && (
        <p className="text-xs text-ink2">All {checks.length} gates are met.</p>
      )}
      {unmet.map((check) => (
        <p key={check.asks} className="text-xs text-bad">
          <b className="strong">Not met: {check.asks}</b>; {check.found}.
        </p>
      ))}
      {unmet.length > 0 && (
        <TextArea
          label={why ?? 'Why it is placed all the same; shown on the version from now on'}
          value={override}
          onChange={setOverride}
          rows={2}
          limit={2000}
          disabled={!!why}
        />
      )}
      <Comment value={comment} onChange={setComment} />
    </DialogForm>
  )
}
