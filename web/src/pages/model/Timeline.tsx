/** What happened on the stages, the latest first, with the outcome of every gate that was asked. */
import { Link } from 'react-router'
import type { Model } from '../../api/client'
import { Section } from '../../parts/Marks'
import { fullMoment, moment } from '../../parts/values'

type Event = Model['events'][number]
const ACTS: Record<Event['act'], string> = {
  promote: 'promoted',
  demote: 'demoted',
  'roll back': 'rolled back',
}

export function Timeline({ model }: { model: Model }) {
  const events = [...model.events].reverse()
  return (
    <Section title="On the stages" fact={`${events.length} acts, kept for ever`}>
      {events.length === 0 && <p className="lab py-1">No version was placed yet.</p>}
      <table className="w-full text-xs" aria-label="On the stages">
        <tbody>
          {events.map((event) => (
            <tr key={`${event.at} ${event.stage}`} className="border-b border-line align-top">
              <td className="w-[84px] py-1 text-ink3" title={fullMoment(event.at)}>
                {moment(event.at)}
              </td>
              <td className="w-[180px] py-1">
                <b className="strong">
                  {ACTS[event.act]} {event.act === 'promote' ? event.after : event.before}
                </b>{' '}
                {event.stage}: {event.before ?? 'empty'} → {event.after ?? 'empty'}
              </td>
              <td className="w-[90px] truncate py-1 text-ink2">{event.person}</td>
              <td className="py-1 text-ink2">
                {event.imported_from && <span className="lab pr-2">imported from {event.imported_from}</span>}
                <Gates event={event} />
                {event.comment && `“${event.comment}”`}
              </td>
              <td className="py-1 text-right">
                {event.after && (
                  <Link className="link" to={`/${model.project}/models/${model.name}/${event.after}`}>
                    {event.after}
                  </Link>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </Section>
  )
}

function Gates({ event }: { event: Event }) {
  if (!event.checks?.length) return null
  const met = event.checks.filter((check) => check.met).length
  return (
    <details className="inline-block pr-2 align-top">
      <summary className={met < event.checks.length ? 'strong text-bad' : ''}>
        {met} of {event.checks.length} gates met
        {event.override_reason && `; overridden: ${event.override_reason}`}
      </summary>
      <ul>
        {event.checks.map((check) => (
          <li key={check.asks} className={check.met ? '' : 'text-bad'}>
            {check.met ? '✓' : '✕'} {check.asks}: {check.found}
          </li>
        ))}
      </ul>
    </details>
  )
}
