/** A project's experiments: found by name, words and labels, sorted by any column, best against goal. */
import { useState } from 'react'
import { Link } from 'react-router'
import type { useExperiments } from '../../api/queries'
import { DescribeDialog } from '../../parts/DescribeDialogs'
import { matcher } from '../../parts/filter'
import { Changing, Section } from '../../parts/Marks'
import { BoundPost } from '../../parts/Post'
import { useAddress } from '../../parts/selection'
import { SortHead, sorted, type By } from '../../parts/SortHead'
import { arrow, asNumber, moment, plural, show } from '../../parts/values'
import { DataTable } from '../../parts/DataTable'

type Row = NonNullable<ReturnType<typeof useExperiments>['data']>[number]

const BY: By<Row> = {
  experiment: (row) => row.name,
  runs: (row) => row.runs,
  running: (row) => row.running,
  // Of different goals only how far from the bound can be compared.
  'best so far': (row) => {
    const goal = row.goals[0]
    const value = asNumber(row.best_value)
    if (!goal || value === null || goal.bound === null || goal.bound === undefined) return null
    const over = (value - goal.bound) / (Math.abs(goal.bound) || 1)
    return goal.direction === 'higher' ? over : -over
  },
  'last activity': (row) => row.last_activity,
}

/** A word finds names, descriptions and labels that hold it; a glob or an expression says a name exactly. */
export function fitsRow(find: string, row: { name: string; description: string; labels: Record<string, string> }) {
  if (/[*?/]/.test(find)) return matcher(find).fits(row.name)
  const labels = Object.entries(row.labels).map(([key, text]) => `${key}=${text}`)
  const held = [row.name, row.description, ...labels].join('\n').toLowerCase()
  return find.toLowerCase().split(/\s+/).every((word) => held.includes(word))
} // prettier-ignore

export function Experiments({
  project,
  rows,
  describes,
}: {
  project: string
  rows: Row[]
  describes: boolean
}) {
  const { params, change } = useAddress()
  const find = params.get('find') ?? ''
  const running = params.get('running') === 'yes'
  const fitting = rows.filter((row) => fitsRow(find, row) && (!running || row.running > 0))
  const shown = sorted(fitting, BY, params.get('by'))
  return (
    <Section
      className="col-span-8"
      title="Experiments"
      fact={
        <span className="flex items-center gap-3 text-xs">
          <span className="lab">
            {shown.length < rows.length
              ? `${shown.length} of ${rows.length}`
              : params.get('by')
                ? ''
                : 'the last active first'}
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
            placeholder="find, key=label, glob*"
            value={find}
            spellCheck={false}
            onChange={(event) => change('find', event.target.value || null)}
          />
        </span>
      }
    >
      {shown.length > 0 ? (
        <ExperimentTable project={project} rows={shown} describes={describes} />
      ) : (
        <p className="lab py-2">None of {plural(rows.length, 'experiment')} fits.</p>
      )}
    </Section>
  )
}

function ExperimentTable({ project, rows, describes }: { project: string; rows: Row[]; describes: boolean }) {
  const [asking, setAsking] = useState<Row | null>(null)
  return (
    <>
      <DataTable
        label="Experiments"
        className="w-full"
        rows={rows}
        keyOf={(row) => row.name}
        line="group/row h-8 border-b border-line"
        head={
          <thead>
            <tr className="lab h-6">
              <SortHead name="experiment" />
              <SortHead name="runs" right />
              <SortHead name="running" right />
              <SortHead name="best so far" className="pl-6" />
              <SortHead name="last activity" right />
            </tr>
          </thead>
        }
        columns={[
          {
            name: 'experiment',
            heads: true,
            className: 'max-w-[300px] py-1',
            cell: (row) => (
              <>
                <span className="flex items-baseline gap-3">
                  <Link className="strong hover:underline" to={`/${project}/e/${row.name}`}>
                    {row.name}
                  </Link>
                  {Object.entries(row.labels).map(([key, text]) => (
                    <span key={key} className="lab whitespace-nowrap">
                      {key}={text}
                    </span>
                  ))}
                  {describes && (
                    <button
                      className="link text-2xs opacity-0 group-hover/row:opacity-100 focus:opacity-100"
                      aria-label={`Describe ${row.name}`}
                      onClick={() => setAsking(row)}
                    >
                      describe
                    </button>
                  )}
                </span>
                {row.description && (
                  <span className="block truncate text-xs text-ink2" title={row.description}>
                    {row.description}
                  </span>
                )}
              </>
            ),
          },
          {
            name: 'runs',
            right: true,
            cell: (row) => <Changing>{row.runs.toLocaleString('en')}</Changing>,
          },
          {
            name: 'running',
            right: true,
            className: (row) => (row.running ? 'text-accent' : 'text-ink3'),
            cell: (row) => row.running,
          },
          { name: 'best so far', className: 'pl-6', cell: (row) => <Best project={project} row={row} /> },
          {
            name: 'last activity',
            right: true,
            className: 'text-xs text-ink2',
            cell: (row) => moment(row.last_activity),
          },
        ]}
      />
      {asking && (
        <DescribeDialog
          project={project}
          experiment={asking.name}
          description={asking.description}
          labels={asking.labels}
          seeds={asking.seeds}
          generatesNames={asking.generates_names}
          onClose={() => setAsking(null)}
        />
      )}
    </>
  )
}

function Best({ project, row }: { project: string; row: Row }) {
  const goal = row.goals[0]
  if (!row.best_run || !goal) return <span className="text-ink3">no goal met by a finished run yet</span>
  return (
    <>
      {goal.key}
      {arrow(goal)}{' '}
      <span className="strong">
        <Changing>{show(row.best_value)}</Changing>
      </span>{' '}
      <span className="text-xs text-ink3">
        {goal.unit} by{' '}
        <Link className="link" to={`/${project}/e/${row.best_run}`}>
          {row.best_run}
        </Link>
      </span>
      <AgainstGoal row={row} />
    </>
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
