/** What takes how much room in a project, and what a purge of its bin would free. */
import { useState } from 'react'
import { Link, useParams } from 'react-router'
import type { Schemas } from '../../api/client'
import { useStorage } from '../../api/data'
import { useMe } from '../../api/queries'
import { Section } from '../../parts/Marks'
import { Answer, Page, Waiting } from '../../parts/Shell'
import { bytes, plural } from '../../parts/values'
import { DataTable } from '../../parts/DataTable'
import { QuotaDialog } from './QuotaDialog'

type Taken = Schemas['Taken']

export default function Storage() {
  const { project = '' } = useParams()
  const { data, error } = useStorage(project)
  const { data: me } = useMe()
  const [asking, setAsking] = useState(false)
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
          <>
            {me?.is_admin && (
              <button className="btn" onClick={() => setAsking(true)}>
                Quota
              </button>
            )}
            <Link className="btn" to={`/${project}/bin`}>
              Bin
            </Link>
          </>
        }
      >
        <b>{bytes(data.size_bytes)}</b> in {plural(data.files, 'stored file')}
        {largest && largest.size_bytes > 0
          ? `, most of it ${largest.name} (${Math.round((100 * largest.size_bytes) / data.size_bytes)} %)`
          : ''}
        ; {bytes(data.disk_free_bytes)} are free.
      </Answer>
      {asking && <QuotaDialog project={project} quota={data.quota} onClose={() => setAsking(false)} />}
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
        <Quota usage={data} />
        <KeptBy people={data.people} />
        <p className="col-span-12 text-xs text-ink3">
          A file that several hold counts in each of them, and once in the whole. What stays where it is, by
          reference, takes no room here.
        </p>
      </div>
    </Page>
  )
}

/** What a project took of what it may take; nothing where an administrator bounds nothing. */
function Quota({ usage }: { usage: Schemas['Usage'] }) {
  const { quota } = usage
  const bounds = [
    { name: 'stored', taken: usage.size_bytes, bound: quota.size_bytes, write: bytes },
    { name: 'runs counted today', taken: usage.runs_today, bound: quota.runs_a_day, write: count },
    { name: 'points counted today', taken: usage.points_today, bound: quota.points_a_day, write: count },
  ].filter((one) => one.bound !== null)
  if (bounds.length === 0) return null
  return (
    <Section className="col-span-6" title="Quota" fact="by days in UTC, from when the quota was set">
      <DataTable
        label="Quota"
        rows={bounds}
        keyOf={(row) => row.name}
        columns={[
          { name: 'what', heads: true, className: 'text-ink2', cell: (row) => row.name },
          {
            name: 'taken',
            right: true,
            className: (row) => (row.taken >= (row.bound ?? 0) ? 'text-bad strong' : ''),
            cell: (row) => `${row.write(row.taken)} of ${row.write(row.bound ?? 0)}`,
          },
          {
            name: 'share',
            className: 'w-[92px] pl-2',
            cell: (row) => (
              <svg width={84} height={8} aria-hidden>
                <rect width={84} height={8} fill="var(--sunken)" />
                <rect
                  width={84 * Math.min(1, row.taken / Math.max(1, row.bound ?? 1))}
                  height={8}
                  fill="var(--accent)"
                />
              </svg>
            ),
          },
        ]}
      />
    </Section>
  )
}

const count = (value: number) => value.toLocaleString('en')

function KeptBy({ people }: { people: Schemas['TakenBy'][] }) {
  if (people.length === 0) return null
  return (
    <Section className="col-span-6" title="Kept by" fact="the largest first">
      <DataTable
        label="Kept by"
        rows={people}
        keyOf={(row) => row.person}
        columns={[
          { name: 'who', heads: true, cell: (row) => row.person },
          {
            name: 'versions',
            right: true,
            className: 'text-ink2',
            cell: (row) => plural(row.versions, 'version'),
          },
          { name: 'size', right: true, className: 'strong', cell: (row) => bytes(row.size_bytes) },
        ]}
      />
    </Section>
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
      <DataTable
        label={`Room of ${title.toLowerCase()}`}
        rows={rows}
        keyOf={(row) => row.name}
        head="lab h-6"
        columns={[
          {
            name: 'name',
            heads: true,
            cell: (row) => (
              <Link className="hover:underline" to={to(row.name)}>
                {row.name}
              </Link>
            ),
          },
          { name: what, right: true, className: 'text-ink2', cell: (row) => row.things.toLocaleString('en') },
          {
            name: 'files',
            right: true,
            headClass: 'pl-3',
            className: 'pl-3 text-ink2',
            cell: (row) => row.files.toLocaleString('en'),
          },
          {
            name: 'size',
            right: true,
            headClass: 'pl-3',
            className: 'pl-3 strong',
            cell: (row) => bytes(row.size_bytes),
          },
          {
            name: 'share',
            head: null,
            headClass: 'w-[92px]',
            className: 'pl-2',
            cell: (row) => (
              <svg width={84} height={8} aria-hidden>
                <rect width={84} height={8} fill="var(--sunken)" />
                <rect width={most ? (84 * row.size_bytes) / most : 0} height={8} fill="var(--line2)" />
                <rect width={most ? (84 * row.alone_bytes) / most : 0} height={8} fill="var(--accent)" />
              </svg>
            ),
          },
          {
            name: 'held by it alone',
            right: true,
            className: 'text-ink2',
            cell: (row) => bytes(row.alone_bytes),
          },
          {
            name: 'in the bin',
            right: true,
            headClass: 'pl-3',
            className: 'pl-3 text-ink2',
            cell: (row) =>
              row.binned
                ? `${row.binned.toLocaleString('en')}${row.binned_bytes ? `, ${bytes(row.binned_bytes)}` : ''}`
                : '',
          },
        ]}
      />
      {rows.length === 0 && <p className="lab py-2">Nothing yet.</p>}
    </Section>
  )
}
