/** The bin of a project: out of sight, restored in one act, and purged for good in another. */
import { useState } from 'react'
import { Link, useParams } from 'react-router'
import type { Schemas } from '../../api/client'
import { usePurge, usePurgePreview, useStorage } from '../../api/data'
import { useBin } from '../../api/queries'
import { DialogForm } from '../../parts/DialogForm'
import { Status } from '../../parts/Marks'
import { Answer, Page, Waiting } from '../../parts/Shell'
import { toast } from '../../parts/Toasts'
import { useBinning } from '../../parts/useBinning'
import { bytes, moment, plural } from '../../parts/values'
import { DataTable } from '../../parts/DataTable'

type Thing = Schemas['BinnedThing']

export default function Bin() {
  const { project = '' } = useParams()
  const { data: things, error } = useBin(project)
  const { data: storage } = useStorage(project)
  const { giveBack, pending } = useBinning(project)
  const [purging, setPurging] = useState<string[] | null | undefined>(undefined)
  const crumbs = [{ text: 'data', to: `/${project}/data` }, { text: 'bin' }]
  if (!things) {
    return (
      <Page crumbs={crumbs} at="Data" title="Bin">
        <Waiting error={error} />
      </Page>
    )
  }
  const runs = things.filter((thing) => thing.kind === 'run').length
  const models = things.filter((thing) => thing.kind === 'model').length
  const versions = things.length - runs - models
  const mine = things.filter((thing) => thing.may_restore).map((thing) => thing.reference)
  return (
    <Page crumbs={crumbs} at="Data" title="Bin">
      <Answer
        reason="What is here is left out of tables, counts and best runs; everything that was recorded is still there, until it is purged."
        right={
          <>
            {mine.length > 1 && (
              <button className="btn" disabled={pending} onClick={() => giveBack(mine)}>
                Restore all
              </button>
            )}
            {storage?.may_purge && things.length > 0 && (
              <button className="btn btn-bad" onClick={() => setPurging(null)}>
                Purge all …
              </button>
            )}
          </>
        }
      >
        <b>
          {things.length
            ? [
                runs && plural(runs, 'run'),
                versions && plural(versions, 'version'),
                models && plural(models, 'model'),
              ]
                .filter(Boolean)
                .join(' and ') + ' in the bin'
            : 'The bin is empty'}
        </b>
        {things.length ? ', restored in one act.' : '.'}
      </Answer>
      {things.length > 0 && (
        <DataTable
          label="In the bin"
          className="mx-6 text-sm"
          rows={things}
          keyOf={(thing) => thing.reference}
          head="h-8 border-b border-line2 text-xs text-ink2"
          line="h-9 border-b border-line"
          columns={[
            {
              name: 'What',
              heads: true,
              cell: (thing) => (
                <>
                  <Link className="link" to={pageOf(project, thing)}>
                    {thing.reference}
                  </Link>{' '}
                  <span className="text-ink2">{thing.name}</span>
                </>
              ),
            },
            {
              name: 'Made by',
              className: 'text-xs text-ink2',
              cell: (thing) => (
                <>
                  {thing.author},{' '}
                  {thing.kind === 'run' ? (
                    <Status status={thing.status} text={moment(thing.made_at)} />
                  ) : (
                    `${thing.status}, ${moment(thing.made_at)}`
                  )}
                </>
              ),
            },
            {
              name: 'Binned',
              className: 'text-xs text-ink2',
              cell: (thing) => (
                <>
                  {moment(thing.binned_at)}
                  {thing.reason ? `: ${thing.reason}` : thing.binned_by && ` by ${thing.binned_by}`}
                </>
              ),
            },
            {
              name: 'Files',
              right: true,
              className: 'text-xs text-ink2',
              cell: (thing) => (thing.size_bytes ? bytes(thing.size_bytes) : ''),
            },
            {
              name: 'Acts',
              head: null,
              right: true,
              className: 'whitespace-nowrap',
              cell: (thing) => (
                <>
                  {thing.may_restore && (
                    <button
                      className="btn"
                      disabled={pending}
                      aria-label={`Restore ${thing.reference}`}
                      onClick={() => giveBack([thing.reference])}
                    >
                      Restore
                    </button>
                  )}{' '}
                  {storage?.may_purge && thing.kind !== 'model' && (
                    <button
                      className="btn btn-bad"
                      aria-label={`Purge ${thing.reference}`}
                      onClick={() => setPurging([thing.reference])}
                    >
                      Purge …
                    </button>
                  )}
                </>
              ),
            },
          ]}
        />
      )}
      {purging !== undefined && (
        <PurgeDialog project={project} things={purging} onClose={() => setPurging(undefined)} />
      )}
    </Page>
  )
}

const pageOf = (project: string, thing: Thing) => {
  if (thing.kind === 'model') return `/${project}/models/${thing.reference.replace('model:', '')}`
  const [name, number] = thing.reference.split('@')
  return thing.kind === 'run'
    ? `/${project}/e/${thing.reference}`
    : `/${project}/data/${name}?version=${number}`
}

/** Says what will go and what stays, before anything does. */
function PurgeDialog({
  project,
  things,
  onClose,
}: {
  project: string
  things: string[] | null
  onClose: () => void
}) {
  const { data, error } = usePurgePreview(project, things, true)
  const purge = usePurge(project)
  const count = data ? data.runs.length + data.versions.length : 0
  const submit = () =>
    purge.mutate(things, {
      onSuccess: (done) => {
        toast(
          `${plural(done.runs.length + done.versions.length, 'thing')} purged, ${bytes(done.size_bytes)} free.`,
        )
        onClose()
      },
    })
  return (
    <DialogForm
      title="Purge for good"
      act={count ? `Purge ${plural(count, 'thing')}` : 'Purge'}
      error={purge.error ?? error}
      pending={purge.isPending || count === 0}
      onSubmit={submit}
      onClose={onClose}
    >
      {data ? (
        <>
          <p className="text-sm">
            {count === 0 ? (
              'There is nothing that can be purged.'
            ) : (
              <>
                {plural(data.runs.length, 'run')} and {plural(data.versions.length, 'version')} go, and with
                them <b>{plural(data.files, 'file')}</b> of <b>{bytes(data.size_bytes)}</b>
                {data.recorded_bytes ? ` and about ${bytes(data.recorded_bytes)} of records` : ''}. This
                cannot be taken back.
              </>
            )}
          </p>
          <p className="text-xs text-ink2">
            {[...data.runs, ...data.versions].slice(0, 12).join(', ')}
            {count > 12 ? ` and ${count - 12} more` : ''}
          </p>
          {data.kept.map((kept) => (
            <p key={kept.reference} className="text-xs text-ink2">
              {kept.reference} stays: it {kept.why}.
            </p>
          ))}
          <p className="text-xs text-ink3">
            Lineage keeps knowing that they were, and what they had to do with.
          </p>
        </>
      ) : (
        <p className="lab">Reading …</p>
      )}
    </DialogForm>
  )
}
