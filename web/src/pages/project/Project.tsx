/** A project: its experiments, models, data and members. */
import { Link, useParams } from 'react-router'
import { useArtifacts, useExperiments, useMembers, useModels } from '../../api/queries'
import { matcher } from '../../parts/filter'
import { Changing, Section } from '../../parts/Marks'
import { BoundPost } from '../../parts/Post'
import { useAddress } from '../../parts/selection'
import { Answer, Page, Waiting } from '../../parts/Shell'
import { arrow, asNumber, bytes, moment, plural, show } from '../../parts/values'

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
        {data.length === 0 ? (
          <Section className="col-span-8" title="Experiments">
            <Empty project={project} />
          </Section>
        ) : (
          <Experiments project={project} rows={data} />
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
          <Section
            title="Data and files"
            fact={
              <Link className="link" to={`/${project}/data`}>
                all data
              </Link>
            }
          >
            <table className="w-full text-xs">
              <tbody>
                {artifacts.data?.map((row) => (
                  <tr key={row.name} className="h-7 border-b border-line">
                    <th scope="row" className="mono">
                      <Link className="hover:underline" to={`/${project}/data/${row.name}`}>
                        {row.reference}
                      </Link>
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
            {' · '}
            <Link className="link" to={`/${project}/storage`}>
              Storage
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

function AgainstGoal({ row }: { row: Row }) {
  const goal = row.goals[0]
  const value = asNumber(row.best_value)
  if (!goal || goal.bound === null || goal.bound === undefined || value === null) return null
  return (
    <span className="ml-3 inline-block align-middle">
      <BoundPost value={value} bound={goal.bound} higher={goal.direction === 'higher'} width={72} />
    </span>
  )
}

type Row = NonNullable<ReturnType<typeof useExperiments>['data']>[number]

function Experiments({ project, rows }: { project: string; rows: Row[] }) {
  const { params, change } = useAddress()
  const find = params.get('find') ?? ''
  const running = params.get('running') === 'yes'
  // A word finds names that hold it; a glob or an expression says it exactly.
  const asked = matcher(/[*?/]/.test(find) || !find ? find : `*${find}*`)
  const shown = rows.filter((row) => asked.fits(row.name) && (!running || row.running > 0))
  return (
    <Section
      className="col-span-8"
      title="Experiments"
      fact={
        <span className="flex items-center gap-3 text-xs">
          <span className="lab">
            {shown.length < rows.length ? `${shown.length} of ${rows.length}` : 'the last active first'}
          </span>
          <label className="flex items-center gap-1">
            <input
              type="checkbox"
              checked={running}
              onChange={(event) => change('running', event.target.checked ? 'yes' : null)}
            />
            only running
          </label>
          <input
            aria-label="Find experiments"
            className="field w-44 py-0 text-xs"
            placeholder="find, glob* or /expression/"
            value={find}
            spellCheck={false}
            onChange={(event) => change('find', event.target.value || null)}
          />
        </span>
      }
    >
      {shown.length > 0 ? (
        <ExperimentTable project={project} rows={shown} />
      ) : (
        <p className="lab py-2">None of {plural(rows.length, 'experiment')} fits.</p>
      )}
    </Section>
  )
}

function ExperimentTable({ project, rows }: { project: string; rows: Row[] }) {
  return (
    <table className="w-full" aria-label="Experiments">
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
            <td className="text-right">
              <Changing>{row.runs.toLocaleString('en')}</Changing>
            </td>
            <td className={`text-right ${row.running ? 'text-accent' : 'text-ink3'}`}>{row.running}</td>
            <td className="pl-6">
              {row.best_run && row.goals[0] ? (
                <>
                  {row.goals[0].key}
                  {arrow(row.goals[0])}{' '}
                  <span className="strong">
                    <Changing>{show(row.best_value)}</Changing>
                  </span>{' '}
                  <span className="text-xs text-ink3">
                    {row.goals[0].unit} by{' '}
                    <Link className="link" to={`/${project}/e/${row.best_run}`}>
                      {row.best_run}
                    </Link>
                  </span>
                  <AgainstGoal row={row} />
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
