/** What one comes to see first: what runs, what ended since the last visit, what waits, what changed stage. */
import { useEffect, useState } from 'react'
import { Link } from 'react-router'
import type { Schemas } from '../../api/client'
import { useToday } from '../../api/following'
import { useLive } from '../../api/live'
import { useProjects } from '../../api/queries'
import { Section } from '../../parts/Marks'
import { useAddress } from '../../parts/selection'
import { Answer, Lost, PaletteButton, Person, Waiting } from '../../parts/Shell'
import { fullMoment, moment, plural } from '../../parts/values'
import { Lanes } from './Lanes'
import { NewNotes } from './NewNotes'
import { Notify } from './Notify'
import { Ended, NeedsALook, RunningNow } from './RunTables'
import { DataTable } from '../../parts/DataTable'

const SPANS: [string, string][] = [
  ['', 'my last visit'],
  ['1', 'yesterday'],
  ['7', 'a week ago'],
  ['30', 'a month ago'],
]

/** The moment so many days ago, which stays the same while the page is open. */
function useSince(): string | null {
  const { params } = useAddress()
  const days = Number(params.get('days') ?? 0)
  const [opened] = useState(() => Date.now())
  return days > 0 ? new Date(opened - days * 86_400_000).toISOString() : null
}

export default function Today() {
  const connected = useLive(null)
  const since = useSince()
  const { data, error } = useToday(since)
  useEffect(() => {
    document.title = 'Today · Kinetrum'
  }, [])
  return (
    <div className="flex min-h-screen flex-col bg-surface">
      <header className="flex h-10 shrink-0 items-center border-b border-line2 px-6 text-sm">
        <Link to="/" className="strong mr-6 tracking-[.02em] text-accent">
          Kinetrum
        </Link>
        <span className="strong" aria-current="page">
          Today
        </span>
        <Places />
        <PaletteButton />
        <Person />
      </header>
      <Lost connected={connected} />
      <main className="flex-1">{data ? <Found data={data} /> : <Waiting error={error} />}</main>
    </div>
  )
}

/** The projects, as ways on from here. */
function Places() {
  const { data } = useProjects()
  return (
    <nav aria-label="Projects" className="ml-auto flex gap-4 text-ink2">
      {data?.slice(0, 6).map((project) => (
        <Link key={project.name} to={`/${project.name}`} className="hover:text-ink">
          {project.name}
        </Link>
      ))}
      {(data?.length ?? 0) > 6 && (
        <Link to="/projects" className="link">
          all projects
        </Link>
      )}
    </nav>
  )
}

type Data = Schemas['Today']

function Found({ data }: { data: Data }) {
  const { params, change } = useAddress()
  const look = data.ended.filter((run) => run.look)
  const fine = data.ended.filter((run) => !run.look)
  return (
    <>
      <Answer
        reason={
          <>
            {data.first_visit && !params.get('days')
              ? 'This is your first visit; shown is the last day.'
              : `Since ${fullMoment(data.since)}.`}{' '}
            {plural(data.ended.length, 'run')}
            {data.ended_more ? ' and more' : ''} ended, {plural(data.stage_changes.length, 'change')} of
            stage.
          </>
        }
        right={
          <>
            <Notify data={data} />
            <label className="text-xs text-ink2">
              since{' '}
              <select
                className="field py-0 text-xs"
                value={params.get('days') ?? ''}
                onChange={(event) => change('days', event.target.value || null)}
              >
                {SPANS.map(([days, text]) => (
                  <option key={days} value={days}>
                    {text}
                  </option>
                ))}
              </select>
            </label>
          </>
        }
      >
        <Sentence data={data} look={look.length} />
      </Answer>
      <Lanes data={data} />
      <div className="grid grid-cols-12 content-start gap-x-6 gap-y-5 px-6 pt-4 pb-6">
        <div className="col-span-8 flex flex-col gap-5">
          <RunningNow runs={data.running} now={data.at} />
          <Ended runs={fine} more={data.ended_more} />
          <NeedsALook runs={look} />
        </div>
        <div className="col-span-4 flex flex-col gap-5">
          <InTrouble troubles={data.troubles} />
          <WaitsForYou versions={data.waiting} />
          <ChangedStage changes={data.stage_changes} />
          <NewNotes notes={data.notes} />
        </div>
      </div>
    </>
  )
}

function Sentence({ data, look }: { data: Data; look: number }) {
  const bests = data.ended.filter((run) => run.is_best).length
  const parts = [
    data.troubles.length > 0 && `${plural(data.troubles.length, 'version')} on a stage should not be there`,
    data.waiting.length > 0 &&
      `${plural(data.waiting.length, 'version')} wait${data.waiting.length === 1 ? 's' : ''} for your review`,
    `${plural(data.running.length, 'run')} ${data.running.length === 1 ? 'is' : 'are'} running`,
    bests > 0 && `${plural(bests, 'result')} ${bests === 1 ? 'is' : 'are'} the best so far`,
    look > 0 && `${plural(look, 'run')} need${look === 1 ? 's' : ''} a look`,
  ].filter((part): part is string => !!part)
  const [first, ...rest] = parts
  return (
    <>
      <b>{first}</b>
      {rest.length > 0 && `; ${rest.join(', ')}`}.
    </>
  )
}

function InTrouble({ troubles }: { troubles: Data['troubles'] }) {
  if (troubles.length === 0) return null
  return (
    <Section title="Stands where it should not" fact={troubles.length}>
      {troubles.map((one) => (
        <div
          key={`${one.project} ${one.model} ${one.stage}`}
          className="flex items-start gap-3 border-b border-line py-2"
        >
          <span className="w-8 text-xl leading-7 text-bad">{one.number}</span>
          <div className="min-w-0 flex-1 text-xs">
            <p className="strong text-sm">
              {one.model} on {one.stage}
            </p>
            <p className="strong text-bad">{one.warning}</p>
          </div>
          <Link
            className="btn btn-bad"
            to={`/${one.project}/models/${one.model}`}
            aria-label={`Roll back ${one.model} on ${one.stage}`}
          >
            Roll back
          </Link>
        </div>
      ))}
    </Section>
  )
}

function WaitsForYou({ versions }: { versions: Data['waiting'] }) {
  if (versions.length === 0) return null
  return (
    <Section title="Waits for you" fact={versions.length}>
      {versions.map((version) => {
        const at = `/${version.project}/models/${version.model}/${version.number}`
        return (
          <div key={at} className="flex items-start gap-3 border-b border-line py-2">
            <span className="w-8 text-xl leading-7">{version.number}</span>
            <div className="min-w-0 flex-1 text-xs">
              <p className="strong text-sm">{version.model}</p>
              <p className="truncate text-ink2">{version.comment}</p>
              <p className="text-ink2">
                by {version.registered_by}, {moment(version.registered_at)}
              </p>
            </div>
            <Link className="btn btn-p" to={at} aria-label={`Review ${version.model} ${version.number}`}>
              Review
            </Link>
          </div>
        )
      })}
    </Section>
  )
}

const STAGE_ACTS: Record<string, string> = { promote: '→', demote: 'off', 'roll back': 'back on' }

function ChangedStage({ changes }: { changes: Data['stage_changes'] }) {
  return (
    <Section title="Changed stage" fact={changes.length}>
      <DataTable
        label="Changed stage"
        className="w-full table-fixed text-xs"
        rows={changes}
        keyOf={(one) => `${one.model} ${one.stage} ${one.at}`}
        line="h-[26px] border-b border-line"
        columns={[
          { name: 'when', className: 'w-[84px] text-ink3', cell: (one) => moment(one.at) },
          {
            name: 'version',
            heads: true,
            className: 'truncate',
            cell: (one) => (
              <>
                <Link className="hover:underline" to={`/${one.project}/models/${one.model}`}>
                  {one.model}
                </Link>{' '}
                <b className="strong">{one.after ?? one.before}</b>
              </>
            ),
          },
          {
            name: 'what',
            className: 'truncate',
            cell: (one) => (
              <>
                {STAGE_ACTS[one.act] ?? one.act} {one.stage}
              </>
            ),
          },
          { name: 'who', right: true, className: 'w-[90px] truncate text-ink2', cell: (one) => one.person },
        ]}
      />
      {changes.length === 0 && <p className="lab">No stage changed since.</p>}
    </Section>
  )
}
