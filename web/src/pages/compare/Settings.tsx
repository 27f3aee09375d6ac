/** What was set differently, on which data, with which code, on which machine. */
import { Link, useParams } from 'react-router'
import type { Comparison } from '../../api/comparing'
import { show } from '../../parts/values'
import { Heads } from './Heads'

/** Where these differ, the texts themselves are one click away. */
const CODE = new Set(['commit', 'uncommitted changes', 'script', 'packages'])

export function Settings(props: { data: Comparison; slots: number[]; baseline: number }) {
  const { data, slots, baseline } = props
  const { project = '' } = useParams()
  const rows = [
    ...data.settings,
    ...data.inputs.map((row) => ({ ...row, key: `data ${row.key}` })),
    ...data.surroundings,
  ]
  const equal = data.settings_equal + data.inputs_equal + data.surroundings_equal
  return (
    <table className="w-full" aria-label="Set differently">
      <thead>
        <tr className="border-b border-line2">
          <th scope="col" className="pb-1">
            <h2 className="strong inline text-sm">Set differently</h2>{' '}
            <span className="lab">
              {rows.length} of {rows.length + equal}
            </span>
          </th>
          <Heads data={data} slots={slots} baseline={baseline} />
          <td className="lab pb-1 text-right">{equal} equal, hidden</td>
        </tr>
      </thead>
      <tbody>
        {rows.map((row) => (
          <tr key={row.key} className="h-7 border-b border-line">
            <th scope="row" className="mono">
              {row.key}
            </th>
            {row.values.map((value, at) => {
              const same = at > 0 && row.present[at] && row.present[0] && show(value) === show(row.values[0])
              return (
                <td
                  key={data.runs[at]?.reference}
                  className={`pl-4 text-right ${same ? 'text-ink3' : 'strong'}`}
                >
                  {!row.present[at] ? '–' : same ? 'same' : show(value)}
                </td>
              )
            })}
            <td className="text-right">
              <FilesLink project={project} values={row.values} />
              {CODE.has(row.key) && <CodeLink project={project} data={data} />}
            </td>
          </tr>
        ))}
        {rows.length === 0 && (
          <tr>
            <td className="py-2 text-xs text-ink3">Every setting is equal.</td>
          </tr>
        )}
      </tbody>
    </table>
  )
}

/** Where two versions of data differ: the way to their files side by side. */
function FilesLink({ project, values }: { project: string; values: unknown[] }) {
  const named = [
    ...new Set(values.filter((value) => typeof value === 'string' && /^[a-z][\w.-]*@\d+$/.test(value))),
  ]
  if (named.length !== 2) return null
  const [right, left] = named as [string, string]
  const [name, version] = right.split('@')
  return (
    <Link className="link text-xs" to={`/${project}/data/${name}?version=${version}&against=${left}`}>
      files side by side
    </Link>
  )
}

/** Of two runs: what of their code differs, line by line. */
function CodeLink({ project, data }: { project: string; data: Comparison }) {
  const [left, right] = data.runs
  if (data.runs.length !== 2 || !left || !right) return null
  return (
    <Link className="link text-xs" to={`/${project}/e/${left.reference}?surroundings=${right.reference}`}>
      line by line
    </Link>
  )
}
