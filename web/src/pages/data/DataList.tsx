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
          <table className="w-full" aria-label="Artifacts">
            <thead>
              <tr className="lab h-6">
                <th scope="col">version</th>
                <th scope="col">kind</th>
                <th scope="col">where</th>
                <th scope="col" className="text-right">
                  files
                </th>
                <th scope="col" className="text-right">
                  size
                </th>
                <th scope="col" className="text-right">
                  made
                </th>
                <th scope="col" className="pl-6">
                  content
                </th>
              </tr>
            </thead>
            <tbody>
              {rows.map((row) => (
                <tr key={row.name} className="h-8 border-b border-line">
                  <th scope="row">
                    <Link className="strong hover:underline" to={`/${project}/data/${row.name}`}>
                      {row.reference}
                    </Link>
                    {row.imported_from && <span className="lab ml-2">imported</span>}
                  </th>
                  <td className="text-xs text-ink2">{row.kind}</td>
                  <td className={`text-xs ${row.damaged ? 'text-bad' : 'text-ink2'}`}>
                    {row.damaged ? 'damaged' : row.by_reference ? 'by reference' : 'stored'}
                  </td>
                  <td className="text-right">{row.file_count.toLocaleString('en')}</td>
                  <td className="text-right">{bytes(row.size_bytes)}</td>
                  <td className="text-right text-xs text-ink2">{moment(row.created_at)}</td>
                  <td className="mono pl-6 text-ink3">{row.digest.slice(0, 12)}</td>
                </tr>
              ))}
            </tbody>
          </table>
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
