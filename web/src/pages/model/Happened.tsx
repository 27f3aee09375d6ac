/** What happened to a model: its journal with a feed of it, and who fetches which version. */
import { useJournal } from '../../api/queries'
import { useFetches } from '../../api/registry'
import { Section } from '../../parts/Marks'
import { fullMoment, moment, plural } from '../../parts/values'
import { DataTable } from '../../parts/DataTable'
import { API } from '../../api/place'

const SHOWN = 24

export function Journal({ project, name }: { project: string; name: string }) {
  const { data } = useJournal(project, name)
  return (
    <Section
      title="Journal"
      fact={
        <>
          {data ? `${plural(data.length, 'entry', 'entries')} · ` : ''}
          <a className="link" href={`${API}/projects/${project}/models/${name}/feed`}>
            Atom feed
          </a>
        </>
      }
    >
      <DataTable
        label="Journal"
        className="w-full table-fixed text-xs"
        rows={(data ?? []).slice(0, SHOWN)}
        keyOf={(entry) => entry.entry_id}
        line="h-[25px] border-b border-line"
        columns={[
          {
            name: 'when',
            className: 'w-[78px] text-ink3',
            title: (entry) => fullMoment(entry.at),
            cell: (entry) => moment(entry.at),
          },
          { name: 'who', className: 'w-[76px] truncate text-ink2', cell: (entry) => entry.person },
          {
            name: 'what',
            className: 'strong w-[112px] truncate',
            cell: (entry) =>
              entry.subject.includes('@')
                ? `${entry.act} ${entry.subject.split('@')[1]}`
                : entry.act.replace(/ of$/, ''),
          },
          {
            name: 'change',
            className: 'truncate text-ink2',
            title: (entry) => entry.comment,
            cell: (entry) => (
              <>
                {change(entry.before, entry.after)} {entry.comment && `“${entry.comment}”`}
              </>
            ),
          },
        ]}
      />
    </Section>
  )
}

/** The one thing that changed, where it reads well in a line. */
function change(before: unknown, after: unknown): string {
  if (typeof before === 'string' && typeof after === 'string')
    return before === after ? '' : `${before} → ${after}`
  if (!before || !after || typeof before !== 'object' || typeof after !== 'object') return ''
  const names = Object.keys(after)
  const [was, is] = [before, after].map((state) => (state as Record<string, unknown>)[names[0] ?? ''])
  const plain = (value: unknown) => value === null || value === undefined || typeof value !== 'object'
  if (names.length !== 1 || !plain(was) || !plain(is)) return names.join(', ')
  return names[0] === 'gates' ? 'gates' : `${names[0]}: ${String(was ?? 'empty')} → ${String(is ?? 'empty')}`
}

export function Fetches({ project, name }: { project: string; name: string }) {
  const { data } = useFetches(project, name)
  return (
    <Section
      title="Who fetches it"
      fact={
        data
          ? plural(
              data.reduce((sum, one) => sum + one.fetches, 0),
              'fetch',
              'fetches',
            )
          : ''
      }
    >
      {data?.length === 0 && (
        <p className="lab py-1">
          Nobody yet. <code className="mono">kinetrum fetch {name}@production -o DIR</code>
        </p>
      )}
      <DataTable
        label="Who fetches it"
        rows={data ?? []}
        keyOf={(one) => `${one.number} ${one.person} ${one.asked}`}
        line="h-[25px] border-b border-line"
        columns={[
          { name: 'who', className: 'truncate text-ink2', cell: (one) => one.person },
          { name: 'version', className: 'strong', cell: (one) => <>version {one.number}</> },
          { name: 'as', className: 'max-w-24 truncate text-ink2', cell: (one) => <>as {one.asked}</> },
          { name: 'times', right: true, cell: (one) => <>{one.fetches.toLocaleString('en')}×</> },
          {
            name: 'last',
            right: true,
            className: 'text-ink3',
            title: (one) => `since ${fullMoment(one.first_at)}`,
            cell: (one) => moment(one.last_at),
          },
        ]}
      />
    </Section>
  )
}
