/** A look into one stored file: text, a table, a picture, a model's signature, an archive's listing. */
import { lazy, Suspense, useState } from 'react'
import { fileAddress, usePreview } from '../api/data'
import { Waiting } from './Shell'
import { DataTable } from './DataTable'

const Markdown = lazy(() => import('./Markdown'))
const TableRows = lazy(() => import('./results/TableRows').then(({ TableRows }) => ({ default: TableRows })))
/** Tables that are browsed row by row. */
const BROWSED = /\.(csv|tsv|parquet|jsonl|ndjson)(\.gz)?$/i

const isText = (kind: string) => kind === 'text' || kind === 'bytes'

export function Preview({
  project,
  artifact,
  version,
  path,
}: {
  project: string
  artifact: string
  version: string
  path: string
}) {
  const [browsing, setBrowsing] = useState(false)
  const { data, error } = usePreview(project, artifact, version, path)
  const address = fileAddress(project, artifact, version, path)
  const browsable = BROWSED.test(path)
  if (!data) {
    return error ? (
      <p className="py-2 text-xs text-ink2" role="status">
        {error.message}
      </p>
    ) : (
      <Waiting error={null} />
    )
  }
  return (
    <div aria-label={`Preview of ${path}`} role="region">
      <p className="flex items-baseline gap-4 py-1 text-xs text-ink2">
        {data.facts.map(([name, value]) => (
          <span key={name}>
            <span className="lab">{name}</span> {value}
          </span>
        ))}
        {data.language && <span className="lab">{data.language}</span>}
        {browsable && (
          <button className="link" onClick={() => setBrowsing(!browsing)}>
            {browsing ? 'Only the beginning' : 'All rows: sort and filter'}
          </button>
        )}
        <a className="link ml-auto" href={address} download>
          Download
        </a>
      </p>
      {data.kind === 'image' && (
        <img
          className="max-h-[420px] max-w-full border border-line bg-bg"
          src={fileAddress(project, artifact, version, path, true)}
          alt={path}
        />
      )}
      {data.kind === 'markdown' && (
        <Suspense fallback={<p className="lab">Reading …</p>}>
          <Markdown text={data.text} />
        </Suspense>
      )}
      <Table data={data} browsing={browsing} project={project} of={`${artifact}@${version}:${path}`} />
      {!browsing && isText(data.kind) && data.text && (
        <pre tabIndex={0} className="mono max-h-[420px] overflow-auto bg-bg p-2 text-ink">
          {data.text}
        </pre>
      )}
      {!browsing && data.note && <p className="py-1 text-xs text-ink3">{data.note}</p>}
    </div>
  )
}

function Table(props: {
  data: { columns: string[]; rows: string[][] }
  browsing: boolean
  project: string
  of: string
}) {
  const { data, browsing, project, of } = props
  if (browsing) {
    return (
      <Suspense fallback={<p className="lab">Reading …</p>}>
        <TableRows project={project} of={of} />
      </Suspense>
    )
  }
  return data.columns.length > 0 ? <Rows columns={data.columns} rows={data.rows} /> : null
}

function Rows({ columns, rows }: { columns: string[]; rows: string[][] }) {
  const numeric = columns.map((_, at) => rows.every((row) => row[at] === '' || !isNaN(Number(row[at]))))
  return (
    <div tabIndex={0} className="max-h-[420px] overflow-auto border-b border-line">
      <DataTable
        className="mono w-full"
        rows={rows}
        keyOf={(_, at) => at}
        line="border-b border-line"
        head="sticky top-0 bg-surface text-left"
        columns={columns.map((name, at) => {
          const [title, type] = name.split('\n')
          return {
            name: String(at),
            head: (
              <>
                {title}
                {type && <span className="block text-2xs text-ink3">{type}</span>}
              </>
            ),
            right: numeric[at],
            headClass: 'border-b border-line2 pr-4 font-semibold',
            className: 'pr-4 whitespace-nowrap',
            cell: (row: string[]) => row[at],
          }
        })}
      />
    </div>
  )
}
