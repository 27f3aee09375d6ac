/** A project: its experiments, models, data and members. */
import { useState } from 'react'
import { Link, useParams } from 'react-router'
import { useArtifacts, useExperiments, useMembers, useProjects } from '../../api/queries'
import { useModels } from '../../api/registry'
import { DescribeDialog } from '../../parts/DescribeDialogs'
import { Section } from '../../parts/Marks'
import { Notes } from '../../parts/Notes'
import { Answer, Page, Waiting } from '../../parts/Shell'
import { bytes, plural } from '../../parts/values'
import { Experiments } from './Experiments'
import { DataTable } from '../../parts/DataTable'
import { ADDRESS } from '../../api/place'

export default function Project() {
  const { project = '' } = useParams()
  const { data, error } = useExperiments(project)
  const models = useModels(project)
  const artifacts = useArtifacts(project)
  const members = useMembers(project)
  const own = useOwn(project)
  if (!data) {
    return (
      <Page crumbs={[]} at="Experiments" title={project}>
        <Waiting error={error} />
      </Page>
    )
  }
  const runs = data.reduce((sum, row) => sum + row.runs, 0)
  const running = data.reduce((sum, row) => sum + row.running, 0)
  const pending = (models.data?.models ?? []).filter((model) => model.reviews['pending'])
  return (
    <Page crumbs={[]} at="Experiments" title={project}>
      <Answer
        reason={
          pending.length
            ? `Versions of ${pending.map((model) => model.name).join(', ')} wait for a review.`
            : 'No version waits for a review.'
        }
      >
        <b>{plural(runs, 'run')}</b> in {plural(data.length, 'experiment')}, {running} running now.
      </Answer>
      {own && <About own={own} />}
      <div className="grid grid-cols-12 content-start gap-x-6 gap-y-5 px-6 pb-6">
        {data.length === 0 ? (
          <Section className="col-span-8" title="Experiments">
            <Empty project={project} />
          </Section>
        ) : (
          <Experiments project={project} rows={data} describes={mayDescribe(own?.role)} />
        )}
        <div className="col-span-4 flex flex-col gap-5">
          <Section
            title="Models"
            fact={
              <Link className="link" to={`/${project}/models`}>
                all ladders
              </Link>
            }
          >
            <DataTable
              rows={models.data?.models ?? []}
              keyOf={(model) => model.name}
              columns={[
                {
                  name: 'model',
                  heads: true,
                  cell: (model) => (
                    <Link className="hover:underline" to={`/${project}/models/${model.name}`}>
                      {model.name}
                    </Link>
                  ),
                },
                {
                  name: 'lead',
                  right: true,
                  className: 'text-ink2',
                  cell: (model) => (model.lead ? `version ${model.lead} leads` : 'no lead version'),
                },
              ]}
            />
          </Section>
          <Section
            title="Data and files"
            fact={
              <Link className="link" to={`/${project}/data`}>
                all data
              </Link>
            }
          >
            <DataTable
              rows={artifacts.data ?? []}
              keyOf={(row) => row.name}
              columns={[
                {
                  name: 'version',
                  heads: true,
                  className: 'mono',
                  cell: (row) => (
                    <Link className="hover:underline" to={`/${project}/data/${row.name}`}>
                      {row.reference}
                    </Link>
                  ),
                },
                { name: 'kind', className: 'text-ink2', cell: (row) => row.kind },
                {
                  name: 'files',
                  right: true,
                  className: 'text-ink2',
                  cell: (row) => plural(row.file_count, 'file'),
                },
                {
                  name: 'size',
                  right: true,
                  className: 'w-[70px] text-ink3',
                  cell: (row) => bytes(row.size_bytes),
                },
              ]}
            />
          </Section>
          <Notes project={project} of={`project:${project}`} may={mayDescribe(own?.role)} />
          <MorePages project={project} role={own?.role} />
          <Section title="Members" fact={members.data ? plural(members.data.length, 'person', 'people') : ''}>
            <DataTable
              rows={members.data ?? []}
              keyOf={(row) => row.name}
              columns={[
                { name: 'who', heads: true, cell: (row) => row.full_name },
                { name: 'role', right: true, className: 'text-ink2', cell: (row) => row.role },
              ]}
            />
          </Section>
        </div>
      </div>
    </Page>
  )
}

const useOwn = (project: string) => useProjects().data?.find((row) => row.name === project)
const mayDescribe = (role: string | undefined) => role !== undefined && role !== 'viewer'

function MorePages({ project, role }: { project: string; role: string | undefined }) {
  const pages = [
    ['bin', 'Bin of this project'],
    ['storage', 'Storage'],
    ...(role === 'maintainer'
      ? [
          ['settings', 'Settings'],
          ['journal', 'Journal'],
        ]
      : []),
  ]
  return (
    <p className="flex gap-3 text-xs">
      {pages.map(([page, title]) => (
        <Link key={page} className="link" to={`/${project}/${page}`}>
          {title}
        </Link>
      ))}
    </p>
  )
}

/** What the project is about, and its labels. */
function About({ own }: { own: NonNullable<ReturnType<typeof useProjects>['data']>[number] }) {
  const [asking, setAsking] = useState(false)
  return (
    <p className="-mt-1 mb-3 flex items-baseline gap-3 px-6 text-xs text-ink2">
      {own.description || <span className="text-ink3">No description yet.</span>}
      {Object.entries(own.labels).map(([key, text]) => (
        <span key={key} className="lab">
          {key}={text}
        </span>
      ))}
      {own.role !== 'viewer' && (
        <button className="link" onClick={() => setAsking(true)}>
          describe
        </button>
      )}
      {asking && (
        <DescribeDialog
          project={own.name}
          experiment={null}
          description={own.description}
          labels={own.labels}
          onClose={() => setAsking(false)}
        />
      )}
    </p>
  )
}

export function Empty({ project, experiment = 'first-look' }: { project: string; experiment?: string }) {
  return (
    <div className="py-3">
      <p className="text-ink2">Nothing is recorded here yet. These lines fill it:</p>
      <pre className="mono mt-2 overflow-x-auto rounded-[3px] bg-bg p-3 text-ink">
        {`import kinetrum
with kinetrum.begin("${experiment}", project="${project}", url="${ADDRESS}") as run:
    run.measure(loss=0.31)
    run.result(recall=0.913)`}
      </pre>
    </div>
  )
}
