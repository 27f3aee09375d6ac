/** The projects one may see; with only one, straight to it. */
import { Link, Navigate } from 'react-router'
import { useProjects } from '../../api/queries'
import { Answer, Waiting } from '../../parts/Shell'
import { moment, plural } from '../../parts/values'

export default function Projects() {
  const { data, error } = useProjects()
  if (!data) return <Waiting error={error} />
  const used = data.filter((row) => row.runs > 0)
  const only = used.length === 1 ? used[0] : data.length === 1 ? data[0] : undefined
  if (only) return <Navigate to={`/${only.name}`} replace />
  return (
    <main className="mx-auto max-w-[900px]">
      <Answer reason="An administrator makes projects and gives roles in them.">
        <b>{plural(data.length, 'project')}</b> you may see.
      </Answer>
      <table className="mx-6 w-[calc(100%-48px)]">
        <tbody>
          {data.map((row) => (
            <tr key={row.name} className="h-8 border-b border-line">
              <th scope="row">
                <Link className="strong hover:underline" to={`/${row.name}`}>
                  {row.name}
                </Link>
                <span className="ml-3 text-xs text-ink2">{row.description}</span>
              </th>
              <td className="text-right">{plural(row.runs, 'run')}</td>
              <td className="pl-6 text-xs text-ink2">{row.role}</td>
              <td className="pl-6 text-xs text-ink3">{moment(row.last_activity)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </main>
  )
}
