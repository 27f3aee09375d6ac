/** What takes how much room in a project, and what a purge of its bin would free. */
import { Link, useParams } from 'react-router'
import type { Schemas } from '../../api/client'
import { useStorage } from '../../api/data'
import { Section } from '../../parts/Marks'
import { Answer, Page, Waiting } from '../../parts/Shell'
import { bytes, plural } from '../../parts/values'

type Taken = Schemas['Taken']

export default function Storage() {
  const { project = '' } = useParams()
  const { data, error } = useStorage(project)
  const crumbs = [{ text: 'data', to: `/${project}/data` }, { text: 'storage' }]
  if (!data) {
    return (
      <Page crumbs={crumbs} at="Data" title="Storage">
        <Waiting error={error} />
      </Page>
    )
  }
  const binned = data.binned_runs + data.binned_versions
  const largest = data.artifacts[0]
  return (
    <Page crumbs={crumbs} at="Data" title="Storage">
      <Answer
        reason={
          binned
            ? `In the bin: ${[
                data.binned_runs && plural(data.binned_runs, 'run'),
                data.binned_versions && plural(data.binned_versions, 'version'),
              ]
                .filter(Boolean)
                .join(' and ')}; a purge would free ${bytes(data.frees_bytes)} of files.`
            : 'The bin is empty.'
        }
        right={
          <Link className="btn" to={`/${project}/bin`}>
            Bin
          </Link>
        }
      >
        <b>{bytes(data.size_bytes)}</b> in {plural(data.files, 'stored file')}
        {largest && largest.size_bytes > 0
          ? `, most of it ${largest.name} (${Math.round((100 * largest.size_bytes) / data.size_bytes)} %)`
          : ''}
        ; {bytes(data.disk_free_bytes)} are free.
      </Answer>
      <div className="grid grid-cols-12 content-start gap-x-6 gap-y-5 px-6 pb-6">
        <Table
          title="Artifacts"
          what="versions"
          rows={data.artifacts}
          most={largest?.size_bytes ?? 0}
          to={(name) => `/${project}/data/${name}`}
        />
        <Table
          title="Experiments"
          what="runs"
          rows={data.experiments}
          most={Math.max(0, ...data.experiments.map((row) => row.size_bytes))}
          to={(name) => `/${project}/e/${name}`}
        />
        <p className="col-span-12 text-xs text-ink3">
          A file that several hold counts in each of them, and once in the whole. What stays where it is, by
          reference, takes no room here.
        </p>
      </div>
    </Page>
  )
}

function Table({
  title,
  what,
  rows,
  most,
  to,
}: {
  title: string
  what: string
  rows: Taken[]
  most: number
  to: (name: string) => string
}) {
  return (
    <Section className="col-span-6" title={title} fact="the largest first">
      <table className="w-full text-xs" aria-label={`Room of ${title.toLowerCase()}`}>
        <thead>
          <tr className="lab h-6 text-right">
            <th scope="col" className="text-left">
              name
            </th>
            <th scope="col" className="text-right">
              {what}
            </th>
            <th scope="col" className="text-right">
              files
            </th>
            <th scope="col" className="text-right">
              size
            </th>
            <th scope="col" className="w-[92px]">
              <span className="sr-only">share</span>
            </th>
            <th scope="col" className="text-right">
              held by it alone
            </th>
            <th scope="col" className="text-right">
              in the bin
            </th>
          </tr>
        </thead>
        <tbody className="text-right">
          {rows.map((row) => (
            <tr key={row.name} className="h-7 border-b border-line">
              <th scope="row" className="text-left">
                <Link className="hover:underline" to={to(row.name)}>
                  {row.name}
                </Link>
              </th>
              <td className="text-ink2">{row.things.toLocaleString('en')}</td>
              <td className="text-ink2">{row.files.toLocaleString('en')}</td>
              <td className="strong">{bytes(row.size_bytes)}</td>
              <td className="pl-2 text-left">
                <svg width={84} height={8} aria-hidden>
                  <rect width={84} height={8} fill="var(--sunken)" />
                  <rect width={most ? (84 * row.size_bytes) / most : 0} height={8} fill="var(--line2)" />
                  <rect width={most ? (84 * row.alone_bytes) / most : 0} height={8} fill="var(--accent)" />
                </svg>
              </td>
              <td className="text-ink2">{bytes(row.alone_bytes)}</td>
              <td className="text-ink2">
                {row.binned
                  ? `${row.binned.toLocaleString('en')}${row.binned_bytes ? `, ${bytes(row.binned_bytes)}` : ''}`
                  : ''}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {rows.length === 0 && <p className="lab py-2">Nothing yet.</p>}
    </Section>
  )
}
