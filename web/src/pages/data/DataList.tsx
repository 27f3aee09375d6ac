/** The artifacts of a project, and the place where files are dropped to be kept. */
import { useState } from 'react'
import { Link, useParams } from 'react-router'
import { useArtifacts, useProjects } from '../../api/queries'
import type { Chosen } from '../../api/data'
import { matcher } from '../../parts/filter'
import { Section } from '../../parts/Marks'
import { useAddress } from '../../parts/selection'
import { Answer, Page, Waiting } from '../../parts/Shell'
import { bytes, moment, plural } from '../../parts/values'
import { DropPlace } from './DropPlace'
import { KeepDialog } from './KeepDialog'
import { DataTable } from '../../parts/DataTable'

export default function DataList() {
  const { project = '' } = useParams()
  const { data, error } = useArtifacts(project)
  const { data: projects } = useProjects()
  const { params, change } = useAddress()
  const [chosen, setChosen] = useState<Chosen[] | null>(null)
  if (!data) {
    return (
      <Page crumbs={[{ text: 'data' }]} at="Data" title="Data">
        <Waiting error={error} />
      </Page>
    )
  }
  const find = params.get('find') ?? ''
  const asked = matcher(/[*?/]/.test(find) || !find ? find : `*${find}*`)
  const rows = data.filter((row) => asked.fits(row.name) || row.kind === find)
  const stored = data.filter((row) => !row.by_reference)
  const damaged = data.filter((row) => row.damaged)
  const role = projects?.find((row) => row.name === project)?.role
  return (
    <Page crumbs={[{ text: 'data' }]} at="Data" title="Data">
      <Answer
        reason={
          damaged.length
            ? `${damaged.map((row) => row.reference).join(', ')}: stored bytes are damaged.`
            : `${stored.length} of them are stored here, the others stay where they are. Every version is known by its content.`
        }
        right={
          <Link className="btn" to={`/${project}/storage`}>
            Storage
          </Link>
        }
      >
        <b>{plural(data.length, 'artifact')}</b>: data, models and other files.
      </Answer>
      <div className="px-6 pb-6">
        <Section
          title="Newest versions"
          fact={
            <input
              aria-label="Find artifacts"
              className="field w-44 py-0 text-xs"
              placeholder="find, glob*, or a kind"
              value={find}
              spellCheck={false}
              onChange={(event) => change('find', event.target.value || null)}
            />
          }
        >
          <DataTable
            label="Artifacts"
            className="w-full"
            rows={rows}
            keyOf={(row) => row.name}
            head="lab h-6"
            line="h-8 border-b border-line"
            columns={[
              {
                name: 'version',
                heads: true,
                cell: (row) => (
                  <>
                    <Link className="strong hover:underline" to={`/${project}/data/${row.name}`}>
                      {row.reference}
                    </Link>
                    {row.imported_from && <span className="lab ml-2">imported</span>}
                  </>
                ),
              },
              { name: 'kind', className: 'text-xs text-ink2', cell: (row) => row.kind },
              {
                name: 'where',
                className: (row) => `text-xs ${row.damaged ? 'text-bad' : 'text-ink2'}`,
                cell: (row) => (row.damaged ? 'damaged' : row.by_reference ? 'by reference' : 'stored'),
              },
              { name: 'files', right: true, cell: (row) => row.file_count.toLocaleString('en') },
              { name: 'size', right: true, cell: (row) => bytes(row.size_bytes) },
              {
                name: 'made',
                right: true,
                className: 'text-xs text-ink2',
                cell: (row) => moment(row.created_at),
              },
              {
                name: 'content',
                headClass: 'pl-6',
                className: 'mono pl-6 text-ink3',
                cell: (row) => row.digest.slice(0, 12),
              },
            ]}
          />
          {rows.length === 0 && (
            <p className="lab py-2">{data.length ? 'None fits.' : 'There are none yet.'}</p>
          )}
        </Section>
        {role && role !== 'viewer' && <DropPlace take={setChosen} />}
      </div>
      {chosen && (
        <KeepDialog
          project={project}
          files={chosen}
          names={data.map((row) => row.name)}
          onClose={() => setChosen(null)}
        />
      )}
    </Page>
  )
}
