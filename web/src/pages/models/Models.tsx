/** Every model's ladder at a glance, of this project or of all; searched and filtered, and all of it an address. */
import { Link, useParams } from 'react-router'
import { useModels, type Glance, type ModelState } from '../../api/registry'
import { useAddress } from '../../parts/selection'
import { Answer, Page, Waiting } from '../../parts/Shell'
import { moment, plural } from '../../parts/values'
import { DataTable } from '../../parts/DataTable'

const STATES: Record<string, string> = {
  '': 'all',
  pending: 'waiting for a review',
  warning: 'with a warning',
  unplaced: 'on no stage',
}

const stateOf = (text: string | null): ModelState | null =>
  text === 'pending' || text === 'warning' || text === 'unplaced' ? text : null

export default function Models() {
  const { project = '' } = useParams()
  const { params } = useAddress()
  const [find, state] = [params.get('find') ?? '', stateOf(params.get('state'))]
  const everywhere = params.get('everywhere') === 'yes'
  const { data, error } = useModels(project, find, state, everywhere)
  const crumbs = [{ text: 'models' }]
  if (!data) {
    return (
      <Page crumbs={crumbs} at="Models" title="Models">
        <Waiting error={error} />
      </Page>
    )
  }
  const { models, count } = data
  const pending = models.reduce((sum, model) => sum + (model.reviews['pending'] ?? 0), 0)
  const asked = find !== '' || state !== null
  return (
    <Page crumbs={crumbs} at="Models" title="Models">
      <Answer reason={<Warnings models={models} />}>
        <b>{plural(pending, 'version')}</b> {pending === 1 ? 'waits' : 'wait'} for a review in{' '}
        {plural(count, 'model')}
        {everywhere ? ' of all projects' : ''}.
      </Answer>
      <Search find={find} state={state} everywhere={everywhere} />
      <div className="px-6 pb-6">
        {models.length > 0 ? (
          <Table models={models} everywhere={everywhere} />
        ) : asked ? (
          <p className="py-4 text-ink2">No model fits.</p>
        ) : (
          <p className="py-4 text-ink2">
            No model yet. Open a run that generated one and choose “Register a version”, or type{' '}
            <code className="mono">kinetrum register NAME --run EXPERIMENT/NUMBER --as-model MODEL</code>.
          </p>
        )}
        {count > models.length && (
          <p className="py-2 text-xs text-ink3">
            {(count - models.length).toLocaleString('en')} more; search to narrow them down.
          </p>
        )}
      </div>
    </Page>
  )
}

function Warnings({ models }: { models: Glance[] }) {
  const found = models.flatMap((model) =>
    model.stages.flatMap((stage) => (stage.warning ? [{ model, stage }] : [])),
  )
  if (!found.length) return <>Every occupant of a stage is in order.</>
  return (
    <span className="text-bad">
      {found.map(({ model, stage }) => `${model.name} on ${stage.name}: ${stage.warning}`).join('; ')}
    </span>
  )
}

function Search({
  find,
  state,
  everywhere,
}: {
  find: string
  state: ModelState | null
  everywhere: boolean
}) {
  const { change } = useAddress()
  return (
    <div role="search" className="flex flex-wrap items-center gap-4 px-6 pb-2 text-xs text-ink2">
      <input
        aria-label="Find models"
        className="field w-72"
        placeholder="name, purpose, person, label"
        defaultValue={find}
        onChange={(event) => change('find', event.target.value.trim() || null)}
      />
      <label className="flex items-center gap-1">
        show
        <select
          className="field py-0 text-xs"
          value={state ?? ''}
          onChange={(event) => change('state', event.target.value || null)}
        >
          {Object.entries(STATES).map(([value, text]) => (
            <option key={value} value={value}>
              {text}
            </option>
          ))}
        </select>
      </label>
      <label className="flex items-center gap-1">
        <input
          type="checkbox"
          checked={everywhere}
          onChange={(event) => change('everywhere', event.target.checked ? 'yes' : null)}
        />
        of all projects
      </label>
    </div>
  )
}

function Table({ models, everywhere }: { models: Glance[]; everywhere: boolean }) {
  const stages = [...new Set(models.flatMap((model) => model.stages.map((stage) => stage.name)))]
  return (
    <DataTable
      label="Models"
      className="w-full"
      rows={models}
      keyOf={(model) => `${model.project}/${model.name}`}
      head="lab h-7 border-b border-line2"
      line="h-12 border-b border-line"
      columns={[
        {
          name: 'model',
          heads: true,
          className: 'max-w-[300px]',
          cell: (model) => (
            <>
              <Link className="strong hover:underline" to={pathOf(model)}>
                {model.name}
              </Link>
              <span className="block truncate text-xs font-normal text-ink3" title={model.purpose}>
                {[plural(model.versions, 'version'), model.purpose].filter(Boolean).join(' · ')}
              </span>
            </>
          ),
        },
        everywhere && { name: 'project', className: 'text-xs text-ink2', cell: (model) => model.project },
        ...stages.map((name) => ({
          name: `stage ${name}`,
          head: name,
          headClass: 'pl-6',
          className: 'pl-6',
          cell: (model: Glance) => (
            <Stage stage={model.stages.find((found) => found.name === name)} to={pathOf(model)} />
          ),
        })),
        { name: 'lead version', right: true, cell: (model) => model.lead ?? '–' },
        {
          name: 'waits for a review',
          headClass: 'pl-6',
          className: 'pl-6',
          cell: (model) => {
            const pending = model.reviews['pending'] ?? 0
            return (
              pending > 0 && (
                <Link className="link" to={pathOf(model)}>
                  {plural(pending, 'version')}
                </Link>
              )
            )
          },
        },
        { name: 'ask', className: 'text-xs text-ink2', cell: (model) => model.person },
      ]}
    />
  )
}

const pathOf = (model: Glance) => `/${model.project}/models/${model.name}`

function Stage({ stage, to }: { stage: Glance['stages'][number] | undefined; to: string }) {
  if (!stage?.occupant) return <span className="text-ink3">–</span>
  return (
    <>
      <Link
        to={`${to}/${stage.occupant}`}
        className={`strong text-xl ${stage.warning ? 'text-bad' : ''}`}
        aria-label={`Version ${stage.occupant} on ${stage.name}`}
      >
        {stage.occupant}
      </Link>
      <span className="ml-2 text-xs text-ink3">since {moment(stage.since)}</span>
      {stage.warning && <span className="block text-xs text-bad">{stage.warning}</span>}
    </>
  )
}
