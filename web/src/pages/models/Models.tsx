/** Every model's ladder at a glance. */
import { Link, useParams } from 'react-router'
import type { Model } from '../../api/client'
import { useModels } from '../../api/queries'
import { Answer, Page, Waiting } from '../../parts/Shell'
import { moment, plural } from '../../parts/values'

export default function Models() {
  const { project = '' } = useParams()
  const { data, error } = useModels(project)
  const crumbs = [{ text: 'models' }]
  if (!data) {
    return (
      <Page crumbs={crumbs} at="Models" title="Models">
        <Waiting error={error} />
      </Page>
    )
  }
  const pending = data.flatMap((model) => model.versions.filter((version) => version.review === 'pending'))
  const warnings = data.flatMap((model) => model.stages.filter((stage) => stage.warning))
  const stages = [...new Set(data.flatMap((model) => model.stages.map((stage) => stage.name)))]
  return (
    <Page crumbs={crumbs} at="Models" title="Models">
      <Answer
        reason={
          warnings.length
            ? warnings.map((stage) => `${stage.name}: ${stage.warning}`).join('; ')
            : 'Every occupant of a stage is in order.'
        }
      >
        <b>{plural(pending.length, 'version')}</b> {pending.length === 1 ? 'waits' : 'wait'} for a review in{' '}
        {plural(data.length, 'model')}.
      </Answer>
      <div className="px-6 pb-6">
        {data.length === 0 ? (
          <p className="py-4 text-ink2">
            No model yet. Open a run that generated one and choose “Register a version”, or type{' '}
            <code className="mono">kinetrum register NAME --run EXPERIMENT/NUMBER --as-model MODEL</code>.
          </p>
        ) : (
          <table className="w-full" aria-label="Models">
            <thead>
              <tr className="lab h-7 border-b border-line2">
                <th scope="col">model</th>
                {stages.map((stage) => (
                  <th key={stage} scope="col" className="pl-6">
                    {stage}
                  </th>
                ))}
                <th scope="col" className="text-right">
                  lead version
                </th>
                <th scope="col" className="pl-6">
                  waits for a review
                </th>
                <th scope="col">ask</th>
              </tr>
            </thead>
            <tbody>
              {data.map((model) => (
                <Row key={model.name} model={model} stages={stages} project={project} />
              ))}
            </tbody>
          </table>
        )}
      </div>
    </Page>
  )
}

function Row({ model, stages, project }: { model: Model; stages: string[]; project: string }) {
  const pending = model.versions.filter((version) => version.review === 'pending')
  const to = `/${project}/models/${model.name}`
  return (
    <tr className="h-12 border-b border-line">
      <th scope="row">
        <Link className="strong hover:underline" to={to}>
          {model.name}
        </Link>
        <span className="block text-xs text-ink3">{plural(model.versions.length, 'version')}</span>
      </th>
      {stages.map((name) => {
        const stage = model.stages.find((found) => found.name === name)
        return (
          <td key={name} className="pl-6">
            {stage?.occupant ? (
              <>
                <Link
                  to={`${to}/${stage.occupant}`}
                  className={`strong text-xl ${stage.warning ? 'text-bad' : ''}`}
                >
                  {stage.occupant}
                </Link>
                <span className="ml-2 text-xs text-ink3">since {moment(stage.since)}</span>
                {stage.warning && <span className="block text-xs text-bad">{stage.warning}</span>}
              </>
            ) : (
              <span className="text-ink3">–</span>
            )}
          </td>
        )
      })}
      <td className="text-right">{model.lead ?? '–'}</td>
      <td className="pl-6">
        {pending.map((version) => (
          <Link key={version.number} className="link mr-2" to={`${to}/${version.number}`}>
            review {version.number}
          </Link>
        ))}
      </td>
      <td className="text-xs text-ink2">{model.person}</td>
    </tr>
  )
}
