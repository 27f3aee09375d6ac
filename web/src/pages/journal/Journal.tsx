/** The journal, searched: of a project for its maintainers, of the whole instance for administrators. */
import { Link, useParams } from 'react-router'
import { useJournal, type JournalRow } from '../../api/access'
import { DataTable } from '../../parts/DataTable'
import { InstancePage } from '../../parts/InstancePage'
import { useAddress } from '../../parts/selection'
import { Answer, Page, Waiting } from '../../parts/Shell'
import { fullMoment, moment } from '../../parts/values'
import { API } from '../../api/place'

const STEP = 100

export function ProjectJournal() {
  const { project = '' } = useParams()
  return (
    <Page crumbs={[{ text: 'journal' }]} at="Experiments" title="Journal">
      <Found project={project} />
    </Page>
  )
}

export default function Journal() {
  return (
    <InstancePage title="Journal">
      <Found project={null} />
    </InstancePage>
  )
}

function Found({ project }: { project: string | null }) {
  const { params, change } = useAddress()
  const text = params.get('text') ?? ''
  const since = params.get('since')
  const limit = Number(params.get('limit') ?? STEP)
  const asked = { text, since: since ? `${since}T00:00:00Z` : null, limit }
  const { data, error } = useJournal(project, asked)
  const of = project === null ? '' : `/projects/${encodeURIComponent(project)}`
  const query = new URLSearchParams({ text, ...(since ? { since: `${since}T00:00:00Z` } : {}) }).toString()
  if (!data) return <Waiting error={error} />
  return (
    <>
      <Answer
        reason="Every change has its line, which nobody can take away unseen: each line's digest is over the one before it."
        right={
          <a className="btn" href={`${API}${of}/journal/lines?${query}`} download>
            JSON Lines
          </a>
        }
      >
        <Sentence rows={data} more={data.length === limit} text={text} />
      </Answer>
      <div className="mx-6 mb-2 flex gap-3">
        <input
          aria-label="Find in the journal"
          className="field h-7 w-80"
          placeholder="words: promoted frost-alarm, ilse, a token"
          value={text}
          spellCheck={false}
          onChange={(event) => change('text', event.target.value || null)}
        />
        <label className="flex items-center gap-2 text-xs text-ink2">
          since
          <input
            type="date"
            className="field h-7"
            value={since ?? ''}
            onChange={(event) => change('since', event.target.value || null)}
          />
        </label>
      </div>
      <DataTable
        label="Journal"
        className="mx-6 w-[calc(100%-48px)] text-xs"
        rows={data}
        keyOf={(row) => row.entry_id}
        head="lab h-6 border-b border-line2"
        columns={[
          {
            name: 'when',
            className: 'whitespace-nowrap text-ink2',
            title: (row) => fullMoment(row.at),
            cell: (row) => moment(row.at),
          },
          { name: 'who', heads: true, cell: (row) => row.person ?? '' },
          { name: 'act', cell: (row) => row.act },
          {
            name: 'what',
            className: 'mono max-w-[260px] truncate',
            title: (row) => row.subject,
            cell: (row) => row.subject,
          },
          {
            name: 'change',
            className: 'max-w-[280px] truncate text-ink2',
            title: (row) => changeOf(row),
            cell: (row) => changeOf(row),
          },
          project === null && {
            name: 'project',
            cell: (row) =>
              row.project ? (
                <Link className="hover:underline" to={`/${row.project}`}>
                  {row.project}
                </Link>
              ) : (
                ''
              ),
          },
          { name: 'by token', className: 'mono text-ink2', cell: (row) => row.token },
          {
            name: 'from',
            className: 'max-w-[180px] truncate text-ink3',
            title: (row) => row.origin,
            cell: (row) => row.origin,
          },
        ]}
      />
      {data.length === limit && (
        <p className="px-6 py-3">
          <button className="btn" onClick={() => change('limit', String(Math.min(500, limit + STEP)))}>
            Earlier entries
          </button>
        </p>
      )}
    </>
  )
}

function Sentence({ rows, more, text }: { rows: JournalRow[]; more: boolean; text: string }) {
  const latest = rows[0]
  if (!latest) return <>{text ? `Nothing has “${text}” in it.` : 'Nothing was done yet.'}</>
  const people = new Set(rows.map((row) => row.person)).size
  return (
    <>
      <b>
        {rows.length}
        {more ? ' and more' : ''} {rows.length === 1 ? 'entry' : 'entries'}
      </b>{' '}
      by {people === 1 ? 'one person' : `${people} people and machines`}; the latest:{' '}
      {latest.person ?? 'somebody'} {latest.act} {latest.subject}.
    </>
  )
}

/** A state as the journal holds it, in words: `digest 31845fe0…, files 3`. */
function told(value: unknown): string {
  if (value === null || value === undefined) return ''
  if (Array.isArray(value)) return value.map(told).join(', ')
  if (typeof value !== 'object') return String(value).replace(/\b([0-9a-f]{12})[0-9a-f]{52}\b/, '$1…')
  return Object.entries(value)
    .map(([key, inner]) => `${key} ${inner === null ? 'none' : told(inner)}`)
    .join(', ')
}

function changeOf(row: JournalRow) {
  const [before, after] = [told(row.before), told(row.after)]
  const change = before && after ? `${before} → ${after}` : before || after
  return [change, row.comment && `“${row.comment}”`].filter(Boolean).join(' ')
}
