/** A model's versions; two chosen ones are put side by side. */
import { useState } from 'react'
import { Link } from 'react-router'
import type { Model, ModelVersion } from '../../api/client'
import { Review, Section } from '../../parts/Marks'
import { RunLink } from '../../parts/RunLink'
import { arrow, decimalsOf, moment, show } from '../../parts/values'
import { DataTable } from '../../parts/DataTable'

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
      <DataTable
        label="Versions"
        className="w-full"
        rows={model.versions}
        keyOf={(version) => version.number}
        head="h-[26px] text-xs text-ink2"
        line={(version) =>
          `h-[29px] border-t border-line ${version.review === 'rejected' || version.retired ? 'text-ink3' : ''} ${
            chosen.includes(version.number) ? 'bg-soft' : ''
          }`
        }
        columns={[
          {
            name: 'chosen',
            head: null,
            cell: (version) => (
              <input
                type="checkbox"
                aria-label={`Choose version ${version.number}`}
                checked={chosen.includes(version.number)}
                onChange={() => toggle(version.number)}
              />
            ),
          },
          {
            name: 'no.',
            heads: true,
            right: true,
            headClass: 'w-8',
            cell: (version) => (
              <Link
                className="strong text-base hover:underline"
                to={`/${model.project}/models/${model.name}/${version.number}`}
                aria-label={`Version ${version.number}`}
              >
                {version.number}
              </Link>
            ),
          },
          {
            name: 'run',
            headClass: 'pl-5',
            className: 'pl-5',
            cell: (version) => (
              <>
                {version.run ? (
                  <RunLink project={model.project} run={version.run} />
                ) : (
                  <span title={version.origin ?? undefined}>no run</span>
                )}
                {version.step !== null && (
                  <span className="lab ml-2" title="Its values are those of this checkpoint of the run">
                    step {version.step}
                  </span>
                )}
              </>
            ),
          },
          ...goals.map((goal) => ({
            name: `value ${goal.key}`,
            head: `${goal.key}${arrow(goal)} ${goal.unit ?? ''}`,
            right: true,
            cell: (version: ModelVersion) =>
              show(version.values[goal.key], decimalsOf(model.versions.map((one) => one.values[goal.key]))),
          })),
          {
            name: 'review',
            headClass: 'pl-6',
            className: 'pl-6',
            cell: (version) => (
              <>
                <Review review={version.review} />
                {version.retired && ' retired'}
                {version.damaged && <span className="strong text-bad"> damaged</span>}
                {version.overrides.length > 0 && (
                  <span className="strong text-bad" title={version.overrides.join('\n')}>
                    {' '}
                    gate overridden
                  </span>
                )}
              </>
            ),
          },
          { name: 'on', className: 'strong', cell: (version) => version.stages.join(', ') },
          {
            name: 'registered',
            className: 'text-xs text-ink2',
            title: (version) => version.comment,
            cell: (version) => (
              <>
                {version.registered_by}, {moment(version.registered_at)}
                {version.imported_from && (
                  <span className="lab ml-2" title={`imported from ${version.imported_from}`}>
                    imported
                  </span>
                )}
              </>
            ),
          },
          {
            name: 'reviewed',
            className: 'max-w-[160px] truncate text-xs text-ink2',
            cell: (version) => reviewers(version),
          },
        ]}
      />
    </Section>
  )
}

const reviewers = (version: ModelVersion) =>
  version.verdicts.length
    ? version.verdicts.map((verdict) => `${verdict.person}: “${verdict.comment}”`).join(', ')
    : 'waits for an approver'
