/** The projects one may see; with only one, straight to it. */
import { Link, Navigate } from 'react-router'
import { useProjects } from '../../api/queries'
import type { Schemas } from '../../api/client'
import { useAddress } from '../../parts/selection'
import { Answer, Waiting } from '../../parts/Shell'
import { SortHead, sorted, type By } from '../../parts/SortHead'
import { moment, plural } from '../../parts/values'
import { fitsRow } from './Experiments'
import { DataTable } from '../../parts/DataTable'

const BY: By<Schemas['Project']> = {
  project: (row) => row.name,
  experiments: (row) => row.experiments,
  runs: (row) => row.runs,
  'last activity': (row) => row.last_activity,
}

export default function Projects() {
  const { data, error } = useProjects()
  const { params, change } = useAddress()
  if (!data) return <Waiting error={error} />
  const used = data.filter((row) => row.runs > 0)
  const only = used.length === 1 ? used[0] : data.length === 1 ? data[0] : undefined
  if (only) return <Navigate to={`/${only.name}`} replace />
  const find = params.get('find') ?? ''
  const shown = sorted(
    data.filter((row) => fitsRow(find, row)),
    BY,
    params.get('by'),
  )
  return (
    <main className="mx-auto max-w-[1000px]">
      <Answer reason="An administrator makes projects and gives roles in them.">
        <b>{plural(data.length, 'project')}</b> you may see.
      </Answer>
      <div className="mx-6 mb-2">
        <input
          aria-label="Find projects"
          className="field h-7 w-64"
          placeholder="find, key=label, glob*"
          value={find}
          spellCheck={false}
          onChange={(event) => change('find', event.target.value || null)}
        />
      </div>
      <DataTable
        label="Projects"
        className="mx-6 w-[calc(100%-48px)]"
        rows={shown}
        keyOf={(row) => row.name}
        line="h-8 border-b border-line"
        head={
          <thead>
            <tr className="lab h-6 border-b border-line2">
              <SortHead name="project" />
              <SortHead name="experiments" right />
              <SortHead name="runs" right />
              <th scope="col" className="pl-6">
                role
              </th>
              <SortHead name="last activity" className="pl-6" />
            </tr>
          </thead>
        }
        columns={[
          {
            name: 'project',
            heads: true,
            cell: (row) => (
              <>
                <Link className="strong hover:underline" to={`/${row.name}`}>
                  {row.name}
                </Link>
                <span className="ml-3 text-xs text-ink2">{row.description}</span>
                {Object.entries(row.labels).map(([key, text]) => (
                  <span key={key} className="lab ml-3">
                    {key}={text}
                  </span>
                ))}
              </>
            ),
          },
          { name: 'experiments', right: true, cell: (row) => row.experiments },
          { name: 'runs', right: true, cell: (row) => row.runs.toLocaleString('en') },
          { name: 'role', className: 'pl-6 text-xs text-ink2', cell: (row) => row.role },
          {
            name: 'last activity',
            className: 'pl-6 text-xs text-ink3',
            cell: (row) => moment(row.last_activity),
          },
        ]}
      />
      {shown.length === 0 && <p className="lab mx-6 py-2">None of them fits.</p>}
    </main>
  )
}
