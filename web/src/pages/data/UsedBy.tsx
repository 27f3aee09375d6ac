/** Who generated and who used exactly this content, under whatever name. */
import { Link } from 'react-router'
import { useUses, type VersionDetail } from '../../api/data'
import { Section, Status } from '../../parts/Marks'
import { moment, plural } from '../../parts/values'
import { DataTable } from '../../parts/DataTable'

export function UsedBy({ project, found }: { project: string; found: VersionDetail }) {
  const { data } = useUses(project, found.digest)
  const uses = data?.uses ?? []
  const runs = new Set(uses.map((use) => use.run.run))
  return (
    <Section title="Who used exactly this" fact={plural(runs.size, 'run')}>
      <div tabIndex={0} className="max-h-[360px] overflow-auto">
        <DataTable
          label="Runs of this content"
          className="w-full table-fixed text-xs"
          rows={uses}
          keyOf={(_, at) => at}
          columns={[
            {
              name: 'run',
              heads: true,
              className: 'truncate',
              title: (use) => use.run.name ?? undefined,
              cell: (use) => (
                <>
                  {use.run.purged ? (
                    <span className="text-ink3">{use.run.run} (purged)</span>
                  ) : (
                    <Link className="hover:underline" to={`/${project}/e/${use.run.run}`}>
                      {use.run.run}
                    </Link>
                  )}{' '}
                  <span className="text-ink3">{use.run.name}</span>
                </>
              ),
            },
            {
              name: 'relation',
              className: 'w-[104px] truncate pl-2 text-ink2',
              cell: (use) => (
                <>
                  {use.run.relation}
                  {use.run.role ? ` as ${use.run.role}` : ''}
                  {use.version !== found.reference ? ` (${use.version})` : ''}
                </>
              ),
            },
            {
              name: 'status',
              right: true,
              className: 'w-[104px] whitespace-nowrap text-ink2',
              cell: (use) => <Status status={use.run.status} text={moment(use.run.at)} />,
            },
          ]}
        />
      </div>
      {data && uses.length === 0 && <p className="lab">No run has to do with it.</p>}
    </Section>
  )
}
