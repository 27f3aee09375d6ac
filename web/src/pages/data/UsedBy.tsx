/** Who generated and who used exactly this content, under whatever name. */
import { Link } from 'react-router'
import { useUses, type VersionDetail } from '../../api/data'
import { Section, Status } from '../../parts/Marks'
import { moment, plural } from '../../parts/values'

export function UsedBy({ project, found }: { project: string; found: VersionDetail }) {
  const { data } = useUses(project, found.digest)
  const uses = data?.uses ?? []
  const runs = new Set(uses.map((use) => use.run.run))
  return (
    <Section title="Who used exactly this" fact={plural(runs.size, 'run')}>
      <div tabIndex={0} className="max-h-[360px] overflow-auto">
        <table className="w-full table-fixed text-xs" aria-label="Runs of this content">
          <tbody>
            {uses.map((use, at) => (
              <tr key={at} className="h-7 border-b border-line">
                <th scope="row" className="truncate" title={use.run.name ?? undefined}>
                  {use.run.purged ? (
                    <span className="text-ink3">{use.run.run} (purged)</span>
                  ) : (
                    <Link className="hover:underline" to={`/${project}/e/${use.run.run}`}>
                      {use.run.run}
                    </Link>
                  )}{' '}
                  <span className="text-ink3">{use.run.name}</span>
                </th>
                <td className="w-[104px] truncate pl-2 text-ink2">
                  {use.run.relation}
                  {use.run.role ? ` as ${use.run.role}` : ''}
                  {use.version !== found.reference ? ` (${use.version})` : ''}
                </td>
                <td className="w-[104px] text-right whitespace-nowrap text-ink2">
                  <Status status={use.run.status} text={moment(use.run.at)} />
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      {data && uses.length === 0 && <p className="lab">No run has to do with it.</p>}
    </Section>
  )
}
