/** How the instance is: version, processes, database, store, what waits; and deleted projects. For administrators. */
import { useState } from 'react'
import { useDeletedProjects, useInstance, useRemoveProject, useRestoreProject } from '../../api/access'
import type { Schemas } from '../../api/client'
import { DataTable } from '../../parts/DataTable'
import { DialogForm } from '../../parts/DialogForm'
import { Field, Refusal } from '../../parts/Field'
import { InstancePage } from '../../parts/InstancePage'
import { Section } from '../../parts/Marks'
import { Answer, Waiting } from '../../parts/Shell'
import { toast } from '../../parts/Toasts'
import { bytes, moment, plural } from '../../parts/values'

type State = Schemas['InstanceState']

export default function Instance() {
  const { data, error } = useInstance()
  return (
    <InstancePage title="Instance">
      {data ? (
        <>
          <Answer reason={data.troubles.length ? data.troubles.join(' ') : 'Nothing needs a look.'}>
            <b>Kinetrum {data.version}</b> runs in {plural(data.processes.length, 'process', 'processes')};{' '}
            {bytes(data.disk_free_bytes)} are free.
          </Answer>
          <div className="grid grid-cols-12 content-start gap-x-6 gap-y-5 px-6 pb-6">
            <div className="col-span-6 flex flex-col gap-5">
              <Facts state={data} />
              <Processes state={data} />
            </div>
            <div className="col-span-6 flex flex-col gap-5">
              <Projects state={data} />
              <Deleted />
            </div>
          </div>
        </>
      ) : (
        <Waiting error={error} />
      )}
    </InstancePage>
  )
}

function Facts({ state }: { state: State }) {
  const count = (value: number) => value.toLocaleString('en')
  const facts: [string, string][] = [
    ['database', `${state.database_version}, ${bytes(state.database_bytes)}`],
    ['store', `${plural(state.files, 'file')}, ${bytes(state.store_bytes)}`],
    ['people', count(state.people)],
    ['runs', count(state.runs)],
    ['points that wait to be worked in', plural(state.waiting_runs, 'run')],
    [
      'journal',
      `${plural(state.journal_entries, 'entry', 'entries')}, digest ${state.journal_digest.slice(0, 16)}…`,
    ],
  ]
  return (
    <Section title="State" fact={`as of ${moment(state.at)}`}>
      <DataTable
        label="State"
        rows={facts}
        keyOf={([name]) => name}
        columns={[
          { name: 'what', heads: true, className: 'text-ink2', cell: ([name]) => name },
          { name: 'how', right: true, cell: ([, value]) => value },
        ]}
      />
    </Section>
  )
}

function Processes({ state }: { state: State }) {
  return (
    <Section title="Processes" fact="any number on one database">
      <DataTable
        label="Processes"
        rows={state.processes}
        keyOf={(row) => row.name}
        columns={[
          { name: 'process', heads: true, className: 'mono', cell: (row) => row.name },
          { name: 'seen', right: true, className: 'text-ink2', cell: (row) => `seen ${moment(row.seen_at)}` },
        ]}
      />
    </Section>
  )
}

function Projects({ state }: { state: State }) {
  return (
    <Section title="Projects" fact="stored bytes, the largest first">
      <DataTable
        label="Projects"
        rows={state.projects}
        keyOf={(row) => row.project}
        columns={[
          { name: 'project', heads: true, cell: (row) => row.project },
          { name: 'files', right: true, className: 'text-ink2', cell: (row) => plural(row.files, 'file') },
          { name: 'size', right: true, cell: (row) => bytes(row.size_bytes) },
        ]}
      />
    </Section>
  )
}

function Deleted() {
  const { data } = useDeletedProjects()
  const restore = useRestoreProject()
  const remove = useRemoveProject()
  const [ending, setEnding] = useState<string | null>(null)
  const [confirmed, setConfirmed] = useState('')
  return (
    <Section title="Deleted projects" fact="nobody sees them">
      {data?.length === 0 && <p className="lab py-2">None.</p>}
      <DataTable
        label="Deleted projects"
        rows={data ?? []}
        keyOf={(row) => row.name}
        columns={[
          { name: 'project', heads: true, cell: (row) => row.name },
          { name: 'when', className: 'text-ink2', cell: (row) => moment(row.deleted_at) },
          {
            name: 'act',
            right: true,
            cell: (row) => (
              <>
                <button
                  className="link mr-3"
                  disabled={restore.isPending}
                  onClick={() => restore.mutate(row.name, { onSuccess: () => toast(`${row.name} is back.`) })}
                >
                  Bring back
                </button>
                <button className="link text-bad" onClick={() => setEnding(row.name)}>
                  Remove for good
                </button>
              </>
            ),
          },
        ]}
      />
      <Refusal error={restore.error} />
      {ending && (
        <DialogForm
          title={`Remove ${ending} for good`}
          act="Remove it"
          error={remove.error}
          pending={remove.isPending}
          onClose={() => setEnding(null)}
          onSubmit={() =>
            remove.mutate(
              { name: ending, confirmed },
              {
                onSuccess: (done) => {
                  setEnding(null)
                  setConfirmed('')
                  toast(`${ending} is gone; ${bytes(done.freed_bytes)} were freed.`)
                },
              },
            )
          }
        >
          <p className="text-sm text-ink2">Its records and bytes go. This cannot be taken back.</p>
          <Field label={`Write ${ending} to go on`} value={confirmed} onChange={setConfirmed} required />
        </DialogForm>
      )}
    </Section>
  )
}
