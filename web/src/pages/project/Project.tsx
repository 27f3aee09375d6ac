/** A project: its experiments, models, data and members. */
import { Link, useParams } from 'react-router'
import { useArtifacts, useExperiments, useMembers, useModels } from '../../api/queries'
import { Section } from '../../parts/Marks'
import { Answer, Page, Waiting } from '../../parts/Shell'
import { arrow, bytes, moment, plural, show } from '../../parts/values'

export default function Project() {
  const { project = '' } = useParams()
  const { data, error } = useExperiments(project)
  const models = useModels(project)
  const artifacts = useArtifacts(project)
  const members = useMembers(project)
  if (!data) {
    return (
      <Page crumbs={[]} at="Experiments" title={project}>
        <Waiting error={error} />
      </Page>
    )
  }
  const runs = data.reduce((sum, row) => sum + row.runs, 0)
  const running = data.reduce((sum, row) => sum + row.running, 0)
  const pending = (models.data ?? []).flatMap((model) =>
    model.versions.filter((version) => version.review === 'pending').map((version) => version.reference),
  )
  return (
    <Page crumbs={[]} at="Experiments" title={project}>
      <Answer
        reason={
          pending.length
            ? `${pending.join(', ')} wait${pending.length === 1 ? 's' : ''} for a review.`
            : 'No version waits for a review.'
        }
      >
        <b>{plural(runs, 'run')}</b> in {plural(data.length, 'experiment')}, {running} running now.
      </Answer>
      <div className="grid grid-cols-12 content-start gap-x-6 gap-y-5 px-6 pb-6">
        <Section className="col-span-8" title="Experiments" fact="the last active first">
          {data.length === 0 ? <Empty project={project} /> : <Experiments project={project} rows={data} />}
        </Section>
        <div className="col-span-4 flex flex-col gap-5">
          <Section
            title="Models"
            fact={
              <Link className="link" to={`/${project}/models`}>
                all ladders
              </Link>
            }
          >
            <table className="w-full text-xs">
              <tbody>
                {models.data?.map((model) => (
                  <tr key={model.name} className="h-7 border-b border-line">
                    <th scope="row">
                      <Link className="hover:underline" to={`/${project}/models/${model.name}`}>
                        {model.name}
                      </Link>
                    </th>
                    <td className="text-right text-ink2">
                      {model.lead ? `version ${model.lead} leads` : 'no lead version'}
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
          </Section>
          <Section title="Data and files" fact="newest versions">
            <table className="w-full text-xs">
              <tbody>
                {artifacts.data?.map((row) => (
                  <tr key={row.name} className="h-7 border-b border-line">
                    <th scope="row" className="mono">
                      {row.reference}
                    </th>
                    <td className="text-ink2">{row.kind}</td>
                    <td className="text-right text-ink2">{plural(row.file_count, 'file')}</td>
                    <td className="w-[70px] text-right text-ink3">{bytes(row.size_bytes)}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          </Section>
          <p className="text-xs">
            <Link className="link" to={`/${project}/bin`}>
              Bin of this project
            </Link>
          </p>
          <Section title="Members" fact={members.data ? plural(members.data.length, 'person', 'people') : ''}>
            <table className="w-full text-xs">
              <tbody>
                {members.data?.map((row) => (
                  <tr key={row.name} className="h-7 border-b border-line">
                    <th scope="row">{row.full_name}</th>
                    <td className="text-right text-ink2">{row.role}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          </Section>
        </div>
      </div>
    </Page>
  )
}

type Row = NonNullable<ReturnType<typeof useExperiments>['data']>[number]

function Experiments({ project, rows }: { project: string; rows: Row[] }) {
  return (
    <table className="w-full">
      <thead>
        <tr className="lab h-6">
          <th scope="col">experiment</th>
          <th scope="col" className="text-right">
            runs
          </th>
          <th scope="col" className="text-right">
            running
          </th>
          <th scope="col" className="pl-6">
            best so far
          </th>
          <th scope="col" className="text-right">
            last activity
          </th>
        </tr>
      </thead>
      <tbody>
        {rows.map((row) => (
          <tr key={row.name} className="h-8 border-b border-line">
            <th scope="row">
              <Link className="strong hover:underline" to={`/${project}/e/${row.name}`}>
                {row.name}
              </Link>
            </th>
            <td className="text-right">{row.runs.toLocaleString('en')}</td>
            <td className={`text-right ${row.running ? 'text-accent' : 'text-ink3'}`}>{row.running}</td>
            <td className="pl-6">
              {row.best_run && row.goals[0] ? (
                <>
                  {row.goals[0].key}
                  {arrow(row.goals[0])} <span className="strong">{show(row.best_value)}</span>{' '}
                  <span className="text-xs text-ink3">
                    {row.goals[0].unit} by{' '}
                    <Link className="link" to={`/${project}/e/${row.best_run}`}>
                      {row.best_run}
                    </Link>
                  </span>
                </>
              ) : (
                <span className="text-ink3">no goal met by a finished run yet</span>
              )}
            </td>
            <td className="text-right text-xs text-ink2">{moment(row.last_activity)}</td>
          </tr>
        ))}
      </tbody>
    </table>
  )
}

export function Empty({ project, experiment = 'first-look' }: { project: string; experiment?: string }) {
  return (
    <div className="py-3">
      <p className="text-ink2">Nothing is recorded here yet. These lines fill it:</p>
      <pre className="mono mt-2 overflow-x-auto rounded-[3px] bg-bg p-3 text-ink">
        {`import kinetrum
with kinetrum.begin("${experiment}", project="${project}", url="${window.location.origin}") as run:
    run.measure(loss=0.31)
    run.result(recall=0.913)`}
      </pre>
    </div>
  )
}
