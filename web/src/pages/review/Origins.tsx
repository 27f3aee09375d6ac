/** Where a version and the one beside it come from, and what changed between them. */
import { useState } from 'react'
import { Link, useParams } from 'react-router'
import type { Model, Schemas } from '../../api/client'
import { useComparison } from '../../api/comparing'
import { useAddEvidence, useLabelVersion, useRetire, type ReviewData } from '../../api/registry'
import { ActButtons, type AskedFor } from '../../parts/ActButtons'
import { ActDialog } from '../../parts/ActDialog'
import { DialogForm } from '../../parts/DialogForm'
import { labelLines, labelsOf } from '../../parts/labels'
import { Fact, Section } from '../../parts/Marks'
import { RunLink } from '../../parts/RunLink'
import { bytes, plural, show } from '../../parts/values'
import { TextArea } from '../../parts/TextArea'

type Version = Schemas['ModelVersionDetail']
const SHOWN = 12

export function Changes({ review }: { review: ReviewData }) {
  const { project = '' } = useParams()
  const { candidate, other } = review
  // Two checkpoints of one run have no two runs to compare.
  const runs = [...new Set([candidate.run, other?.run])].filter((run): run is string => !!run)
  const grown = other ? candidate.artifact.size_bytes - other.artifact.size_bytes : 0
  return (
    <Section
      title="What changed"
      fact={other ? `against version ${other.number}` : 'nothing to compare with'}
    >
      <dl className="text-xs">
        <Fact term="signature">
          <Signature review={review} />
        </Fact>
        <Fact term="size">
          {bytes(candidate.artifact.size_bytes)}
          {other && grown !== 0 && `, ${bytes(Math.abs(grown))} ${grown < 0 ? 'smaller' : 'larger'}`}
        </Fact>
        {other && (
          <Fact term="packages">
            {review.packages.length === 0
              ? candidate.run && other.run
                ? 'the same'
                : 'not both recorded'
              : review.packages.slice(0, SHOWN).map((one) => (
                  <span key={one.name} className="mono mr-3 inline-block">
                    {one.name} {one.before ?? 'none'} → {one.after ?? 'none'}
                  </span>
                ))}
            {review.packages.length > SHOWN && `and ${review.packages.length - SHOWN} more`}
          </Fact>
        )}
        <Differences project={project} runs={runs} />
        {runs.length === 2 && (
          <Fact term="the whole">
            <Link className="link" to={`/${project}/compare?run=${runs[0]}~1&run=${runs[1]}~2`}>
              {runs[0]} beside {runs[1]}, with their replicates
            </Link>
          </Fact>
        )}
      </dl>
    </Section>
  )
}

/** What was set differently, on which data, with which code. */
function Differences({ project, runs }: { project: string; runs: string[] }) {
  const { data } = useComparison(project, runs, 1, false)
  if (!data || runs.length < 2) return null
  const parts = [
    ['settings', data.settings, data.settings_equal],
    ['data', data.inputs, data.inputs_equal],
    ['code and machine', data.surroundings, data.surroundings_equal],
  ] as const
  return (
    <>
      {parts.map(([name, rows, equal]) => (
        <Fact key={name} term={name}>
          {rows.slice(0, SHOWN).map((row) => (
            <span key={row.key} className="mono mr-3 inline-block">
              {row.key} {row.present[1] ? show(row.values[1]) : 'none'} →{' '}
              {row.present[0] ? show(row.values[0]) : 'none'}
            </span>
          ))}
          <span className="text-ink3">
            {rows.length > SHOWN && `${rows.length - SHOWN} more, `}
            {equal} equal
          </span>
        </Fact>
      ))}
    </>
  )
}

function Signature({ review }: { review: ReviewData }) {
  const { signature } = review.candidate
  if (!signature) return <>not known; it was registered without a sample</>
  const field = (one: { name: string; type: string; shape: (number | string | null)[] }) =>
    `${one.name} ${one.type} [${one.shape.map((side) => side ?? '?').join(', ')}]`
  return (
    <>
      {review.misfits?.length ? (
        <b className="strong block text-bad">{review.misfits.join('; ')}</b>
      ) : (
        review.other?.signature && (
          <span className="block text-ink3">fits in the place of version {review.other.number}</span>
        )
      )}
      <span className="mono block">
        {signature.inputs.slice(0, SHOWN).map(field).join(', ')} →{' '}
        {signature.outputs.slice(0, SHOWN).map(field).join(', ')}
      </span>
      <span className="text-ink3">
        {signature.source === 'sample' ? 'inferred from a sample' : `read from ${signature.source}`}
      </span>
    </>
  )
}

export function Origins({ model, version }: { model: Model; version: Version }) {
  const { project = '' } = useParams()
  const [asked, setAsked] = useState<Asked | null>(null)
  const close = () => setAsked(null)
  const labels = Object.entries(version.labels)
  return (
    <Section
      title="Where it comes from"
      fact={<ActButtons buttons={buttonsOf(version)} whyNot={model.why_not} onAsk={setAsked} />}
    >
      <dl className="text-xs">
        {version.overrides.map((reason) => (
          <Fact key={reason} term="overridden">
            <b className="strong text-bad">{reason}</b>
          </Fact>
        ))}
        <Fact term="run">
          {version.run ? <RunLink project={project} run={version.run} /> : version.origin}
        </Fact>
        <Fact term="files">
          {version.artifact_project ? (
            <Link
              className="link mono"
              to={`/${version.artifact_project}/data/${version.artifact.name}?version=${version.artifact.number}`}
            >
              {version.artifact.reference}
            </Link>
          ) : (
            'Of a project that you may not see: '
          )}{' '}
          {plural(version.files.length, 'file')}, {bytes(version.artifact.size_bytes)}
          {version.artifact.by_reference && ', by reference: the bytes are elsewhere'}
        </Fact>
        <Fact term="lineage">
          <Link className="link" to={`/${project}/lineage?of=${version.reference}`}>
            back to the raw data
          </Link>
        </Fact>
        {labels.length > 0 && (
          <Fact term="labels">{labels.map(([key, text]) => `${key}=${text}`).join(', ')}</Fact>
        )}
        {Object.keys(version.dependencies).length > 0 && (
          <Fact term="packages">
            {plural(Object.keys(version.dependencies).length, 'package')}, as its run recorded them
          </Fact>
        )}
        <Fact term="lock">
          <span className="mono break-all">
            {project}/{version.reference} sha256:{version.artifact.digest}
          </span>
        </Fact>
        <Fact term="fetch">
          <span className="mono">kinetrum fetch {version.reference} -o .</span>
        </Fact>
      </dl>
      {asked === 'evidence' && <AddEvidence model={model} version={version} onClose={close} />}
      {asked === 'labels' && <Labels model={model} version={version} onClose={close} />}
      {asked === 'retire' && <Retire model={model} version={version} onClose={close} />}
    </Section>
  )
}

type Asked = 'evidence' | 'labels' | 'retire'
type Props = { model: Model; version: Version; onClose: () => void }

const buttonsOf = (version: Version): AskedFor<Asked>[] => [
  { asked: 'evidence', text: 'Add evidence', act: 'evidence' },
  { asked: 'labels', text: 'Label', act: 'describe' },
  { asked: 'retire', text: version.retired ? 'Use again' : 'Retire', act: 'retire' },
]

function AddEvidence({ model, version, onClose }: Props) {
  const add = useAddEvidence(model.project, model.name, version.number)
  const [run, setRun] = useState('')
  const [on, setOn] = useState('')
  return (
    <DialogForm
      title={`Evidence of version ${version.number}`}
      act="Add evidence"
      error={add.error}
      pending={add.isPending}
      onSubmit={() => add.mutate({ run: run.trim(), on: on.trim() }, { onSuccess: onClose })}
      onClose={onClose}
    >
      <p className="text-xs text-ink2">
        A run that used this version, or made it, and recorded results under the name of the data, as in
        holdout/recall.
      </p>
      <label className="flex flex-col gap-1 text-xs text-ink2">
        Run
        <input
          className="field h-8 text-sm"
          required
          placeholder={`${model.name}/42`}
          value={run}
          onChange={(event) => setRun(event.target.value)}
        />
      </label>
      <label className="flex flex-col gap-1 text-xs text-ink2">
        Name of the data
        <input
          className="field h-8 text-sm"
          required
          placeholder="holdout"
          value={on}
          onChange={(event) => setOn(event.target.value)}
        />
      </label>
    </DialogForm>
  )
}

function Labels({ model, version, onClose }: Props) {
  const save = useLabelVersion(model.project, model.name, version.number)
  const [lines, setLines] = useState(labelLines(version.labels))
  return (
    <DialogForm
      title={`Labels of version ${version.number}`}
      act="Save"
      error={save.error}
      pending={save.isPending}
      onSubmit={() => save.mutate(labelsOf(lines, version.labels), { onSuccess: onClose })}
      onClose={onClose}
    >
      <TextArea label="One key=value a line" value={lines} onChange={setLines} rows={4} plain />
    </DialogForm>
  )
}

function Retire({ model, version, onClose }: Props) {
  const retire = useRetire(model.project, model.name, version.number)
  return (
    <ActDialog
      title={version.retired ? `Use version ${version.number} again` : `Retire version ${version.number}`}
      text={
        version.retired
          ? 'It may be promoted again.'
          : 'It is not promoted any more. Where it stands on a stage it stays until somebody rolls back, and is shown loudly.'
      }
      act={version.retired ? 'Use again' : 'Retire'}
      danger={!version.retired}
      pending={retire.isPending}
      error={retire.error}
      onClose={onClose}
      onAct={(comment) => retire.mutate({ retired: !version.retired, comment }, { onSuccess: onClose })}
    />
  )
}
