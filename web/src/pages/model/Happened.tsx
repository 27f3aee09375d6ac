/** What happened to a model: its journal with a feed of it, and who fetches which version. */
import { useJournal } from '../../api/queries'
import { useFetches } from '../../api/registry'
import { Section } from '../../parts/Marks'
import { fullMoment, moment, plural } from '../../parts/values'

const SHOWN = 24

export function Journal({ project, name }: { project: string; name: string }) {
  const { data } = useJournal(project, name)
  return (
    <Section
      title="Journal"
      fact={
        <>
          {data ? `${plural(data.length, 'entry', 'entries')} · ` : ''}
          <a className="link" href={`/api/v1/projects/${project}/models/${name}/feed`}>
            Atom feed
          </a>
        </>
      }
    >
      <table className="w-full table-fixed text-xs" aria-label="Journal">
        <tbody>
          {data?.slice(0, SHOWN).map((entry) => (
            <tr key={entry.entry_id} className="h-[25px] border-b border-line">
              <td className="w-[78px] text-ink3" title={fullMoment(entry.at)}>
                {moment(entry.at)}
              </td>
              <td className="w-[76px] truncate text-ink2">{entry.person}</td>
              <td className="strong w-[112px] truncate">
                {entry.subject.includes('@')
                  ? `${entry.act} ${entry.subject.split('@')[1]}`
                  : entry.act.replace(/ of$/, '')}
              </td>
              <td className="truncate text-ink2" title={entry.comment}>
                {change(entry.before, entry.after)} {entry.comment && `“${entry.comment}”`}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
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
      <table className="w-full text-xs" aria-label="Who fetches it">
        <tbody>
          {data?.map((one) => (
            <tr key={`${one.number} ${one.person} ${one.asked}`} className="h-[25px] border-b border-line">
              <td className="truncate text-ink2">{one.person}</td>
              <td className="strong">version {one.number}</td>
              <td className="max-w-24 truncate text-ink2">as {one.asked}</td>
              <td className="text-right">{one.fetches.toLocaleString('en')}×</td>
              <td className="text-right text-ink3" title={`since ${fullMoment(one.first_at)}`}>
                {moment(one.last_at)}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </Section>
  )
}
