/** What happened on the stages, the latest first, with the outcome of every gate that was asked. */
import { Link } from 'react-router'
import type { Model } from '../../api/client'
import { Section } from '../../parts/Marks'
import { fullMoment, moment } from '../../parts/values'
import { DataTable } from '../../parts/DataTable'

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
      <DataTable
        label="On the stages"
        rows={events}
        keyOf={(event) => `${event.at} ${event.stage}`}
        line="border-b border-line align-top"
        columns={[
          {
            name: 'when',
            className: 'w-[84px] py-1 text-ink3',
            title: (event) => fullMoment(event.at),
            cell: (event) => moment(event.at),
          },
          {
            name: 'what',
            className: 'w-[180px] py-1',
            cell: (event) => (
              <>
                <b className="strong">
                  {ACTS[event.act]} {event.act === 'promote' ? event.after : event.before}
                </b>{' '}
                {event.stage}: {event.before ?? 'empty'} → {event.after ?? 'empty'}
              </>
            ),
          },
          { name: 'who', className: 'w-[90px] truncate py-1 text-ink2', cell: (event) => event.person },
          {
            name: 'why',
            className: 'py-1 text-ink2',
            cell: (event) => (
              <>
                {event.imported_from && <span className="lab pr-2">imported from {event.imported_from}</span>}
                <Gates event={event} />
                {event.comment && `“${event.comment}”`}
              </>
            ),
          },
          {
            name: 'version',
            right: true,
            className: 'py-1',
            cell: (event) =>
              event.after && (
                <Link className="link" to={`/${model.project}/models/${model.name}/${event.after}`}>
                  {event.after}
                </Link>
              ),
          },
        ]}
      />
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
