/** A model's versions; two chosen ones are put side by side. */
import { useState } from 'react'
import { Link } from 'react-router'
import type { Model, ModelVersion } from '../../api/client'
import { Review, Section } from '../../parts/Marks'
import { arrow, decimalsOf, moment, runPath, show } from '../../parts/values'

export function Versions({ model }: { model: Model }) {
  const goals = model.versions.find((version) => version.goals.length)?.goals.slice(0, 2) ?? []
  const [chosen, setChosen] = useState<number[]>([])
  const toggle = (number: number) =>
    setChosen(
      chosen.includes(number) ? chosen.filter((one) => one !== number) : [...chosen, number].slice(-2),
    )
  const [newer, older] = [...chosen].sort((a, b) => b - a)
  return (
    <Section
      title="Versions"
      fact={
        newer && older ? (
          <Link className="link" to={`/${model.project}/models/${model.name}/${newer}?against=${older}`}>
            Compare {newer} with {older}
          </Link>
        ) : (
          `${model.versions.length}, none removed; tick two to compare`
        )
      }
    >
      <table className="w-full" aria-label="Versions">
        <thead>
          <tr className="h-[26px] text-xs text-ink2">
            <th scope="col">
              <span className="sr-only">chosen</span>
            </th>
            <th scope="col" className="w-8 text-right">
              no.
            </th>
            <th scope="col" className="pl-5">
              run
            </th>
            {goals.map((goal) => (
              <th key={goal.key} scope="col" className="text-right">
                {goal.key}
                {arrow(goal)} {goal.unit}
              </th>
            ))}
            <th scope="col" className="pl-6">
              review
            </th>
            <th scope="col">on</th>
            <th scope="col">registered</th>
            <th scope="col">reviewed</th>
          </tr>
        </thead>
        <tbody>
          {model.versions.map((version) => (
            <Row
              key={version.number}
              model={model}
              version={version}
              goals={goals}
              chosen={chosen.includes(version.number)}
              onToggle={() => toggle(version.number)}
            />
          ))}
        </tbody>
      </table>
    </Section>
  )
}

type RowProps = {
  model: Model
  version: ModelVersion
  goals: ModelVersion['goals']
  chosen: boolean
  onToggle: () => void
}

function Row({ model, version, goals, chosen, onToggle }: RowProps) {
  const faint = version.review === 'rejected' || version.retired
  return (
    <tr className={`h-[29px] border-t border-line ${faint ? 'text-ink3' : ''} ${chosen ? 'bg-soft' : ''}`}>
      <td>
        <input
          type="checkbox"
          aria-label={`Choose version ${version.number}`}
          checked={chosen}
          onChange={onToggle}
        />
      </td>
      <th scope="row" className="text-right">
        <Link
          className="strong text-base hover:underline"
          to={`/${model.project}/models/${model.name}/${version.number}`}
          aria-label={`Version ${version.number}`}
        >
          {version.number}
        </Link>
      </th>
      <td className="pl-5">
        {version.run ? (
          <Link className="link" to={runPath(model.project, version.run)}>
            {version.run}
          </Link>
        ) : (
          <span title={version.origin ?? undefined}>no run</span>
        )}
        {version.step !== null && (
          <span className="lab ml-2" title="Its values are those of this checkpoint of the run">
            step {version.step}
          </span>
        )}
      </td>
      {goals.map((goal) => (
        <td key={goal.key} className="text-right">
          {show(version.values[goal.key], decimalsOf(model.versions.map((one) => one.values[goal.key])))}
        </td>
      ))}
      <td className="pl-6">
        <Review review={version.review} />
        {version.retired && ' retired'}
        {version.damaged && <span className="strong text-bad"> damaged</span>}
        {version.overrides.length > 0 && (
          <span className="strong text-bad" title={version.overrides.join('\n')}>
            {' '}
            gate overridden
          </span>
        )}
      </td>
      <td className="strong">{version.stages.join(', ')}</td>
      <td className="text-xs text-ink2" title={version.comment}>
        {version.registered_by}, {moment(version.registered_at)}
        {version.imported_from && (
          <span className="lab ml-2" title={`imported from ${version.imported_from}`}>
            imported
          </span>
        )}
      </td>
      <td className="max-w-[160px] truncate text-xs text-ink2">{reviewers(version)}</td>
    </tr>
  )
}

const reviewers = (version: ModelVersion) =>
  version.verdicts.length
    ? version.verdicts.map((verdict) => `${verdict.person}: “${verdict.comment}”`).join(', ')
    : 'waits for an approver'
