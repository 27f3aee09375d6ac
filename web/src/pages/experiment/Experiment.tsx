/** An experiment: one wide chart, the lens, above the run table; one selection for both. */
import { useState, type FormEvent } from 'react'
import { useNavigate, useParams } from 'react-router'
import type { RunPage } from '../../api/client'
import { useExperiment, useRuns } from '../../api/queries'
import { LabelDialog, NoteDialog } from '../../parts/DescribeDialogs'
import { Key } from '../../parts/Marks'
import { Answer, Page, Waiting } from '../../parts/Shell'
import { useAddress, useSelection, type Selection } from '../../parts/selection'
import { useBinning } from '../../parts/useBinning'
import { plural, show } from '../../parts/values'
import { Empty } from '../project/Project'
import { KeptLens } from './KeptLens'
import { Lens } from './Lens'
import { RunTable } from './RunTable'
import { columnsOf, keysOf } from './columns'

const FIRST_PAGE = 100
const MOST = 500

export default function Experiment() {
  const { project = '', experiment = '' } = useParams()
  const { params, change } = useAddress()
  const { selection } = useSelection()
  const [limit, setLimit] = useState(FIRST_PAGE)
  const summary = useExperiment(project, experiment)
  const query = params.get('q') ?? ''
  const goal = summary.data?.goals[0]
  const sort = params.get('sort') ?? goal?.key ?? ''
  const key = [params.get('y'), sort.split(',')[0]?.replace(/:(asc|desc)$/, '')].filter(
    (name) => !!name,
  ) as string[]
  const page = useRuns(project, experiment, { query, sort, limit, key })
  const crumbs = [{ text: experiment }]
  if (!summary.data || (!page.data && !query)) {
    return (
      <Page crumbs={crumbs} at="Experiments" title={experiment}>
        <Waiting error={summary.error ?? page.error} />
      </Page>
    )
  }
  return (
    <Page crumbs={crumbs} at="Experiments" title={experiment}>
      <Leader summary={summary.data} slotOf={selection} />
      <Search
        key={query}
        query={query}
        page={page.data}
        error={page.error}
        onAsk={(text) => change('q', text, false)}
      />
      {summary.data.runs === 0 ? (
        <div className="px-6">
          <Empty project={project} experiment={experiment} />
        </div>
      ) : (
        page.data && (
          <Rows page={page.data} sort={sort} onMore={limit < MOST ? () => setLimit(MOST) : undefined} />
        )
      )}
    </Page>
  )
}

function Rows({ page, sort, onMore }: { page: RunPage; sort: string; onMore: (() => void) | undefined }) {
  const { project = '', experiment = '' } = useParams()
  const { params, change } = useAddress()
  const { selection, toggle, clear } = useSelection()
  const navigate = useNavigate()
  const open = (name: string) => navigate(`/${project}/e/${name}`)
  const compare = () => {
    const runs = [...selection].map(([number, slot]) => `run=${experiment}/${number}~${slot}`).join('&')
    void navigate(`/${project}/compare?${runs}`)
  }
  return (
    <>
      {params.get('lens') === 'kept' ? (
        <KeptLens page={page} selection={selection} />
      ) : (
        <Lens page={page} selection={selection} onOpen={open} />
      )}
      <Strip
        page={page}
        selection={selection}
        onClear={clear}
        onCompare={compare}
        goalKey={page.goals[0]?.key ?? keysOf(page, true)[0]?.name}
      />
      <RunTable
        page={page}
        selection={selection}
        sort={sort}
        onSort={(key) => change('sort', key)}
        onToggle={toggle}
        onOpen={open}
      />
      {page.next_cursor && onMore && (
        <p className="px-6 py-2">
          <button className="btn" onClick={onMore}>
            Show more
          </button>
          <span className="ml-3 text-xs text-ink3">
            {page.rows.length} of {page.count.toLocaleString('en')} runs are shown
          </span>
        </p>
      )}
    </>
  )
}

type Summary = NonNullable<ReturnType<typeof useExperiment>['data']>

function Leader({ summary, slotOf }: { summary: Summary; slotOf: Selection }) {
  const goal = summary.goals[0]
  const counts = `${plural(summary.runs, 'run')}, ${summary.running} running.`
  if (!goal || !summary.best_run) {
    return (
      <Answer reason={counts}>
        <b>No run leads yet</b>
        {goal ? `: none has finished with ${goal.key}.` : ': no goal says which direction is better.'}
      </Answer>
    )
  }
  const number = summary.best_run.split('/')[1] ?? ''
  const slot = slotOf.get(number)
  const unit = goal.unit ? ` ${goal.unit}` : ''
  const met =
    goal.bound === null || goal.bound === undefined
      ? ''
      : `, ${(goal.direction === 'higher' ? Number(summary.best_value) >= goal.bound : Number(summary.best_value) <= goal.bound) ? 'which meets' : 'short of'} the goal of ${goal.bound}${unit}`
  return (
    <Answer
      reason={`${counts} The best finished run by its first goal; whether it leads by more than noise, replicates over several seeds would tell.`}
    >
      {slot ? (
        <>
          <Key slot={slot} width={20} />{' '}
        </>
      ) : null}
      <b>
        Run {number} leads on {goal.key}: {show(summary.best_value)}
        {unit}
      </b>
      {met}.
    </Answer>
  )
}

function Search({
  query,
  page,
  error,
  onAsk,
}: {
  query: string
  page: RunPage | undefined
  error: unknown
  onAsk: (text: string) => void
}) {
  const [text, setText] = useState(query)
  const submit = (event: FormEvent) => {
    event.preventDefault()
    onAsk(text.trim())
  }
  const equal = page?.columns.filter((column) => !column.differs).length ?? 0
  return (
    <form role="search" onSubmit={submit} className="px-6 pb-2">
      <div className="flex items-center gap-2">
        <div className="relative flex-1">
          <input
            aria-label="Find runs by one condition"
            aria-invalid={!!error}
            className="field mono h-7 w-full pr-40"
            placeholder="recall >= 0.9     learner = forest     status = failed"
            value={text}
            onChange={(event) => setText(event.target.value)}
            spellCheck={false}
          />
          <span className="pointer-events-none absolute top-1 right-2 text-xs text-ink3">
            {page && !error
              ? `${page.count.toLocaleString('en')}${page.count_is_capped ? '+' : ''} runs`
              : ''}
          </span>
        </div>
        <button className="btn h-7">Find</button>
        {query && (
          <button type="button" className="btn h-7" onClick={() => onAsk('')}>
            Show all
          </button>
        )}
        {equal > 0 && (
          <span className="text-xs whitespace-nowrap text-ink3">{plural(equal, 'equal setting')} hidden</span>
        )}
        {page && columnsOf(page).hidden > 0 && (
          <span className="text-xs whitespace-nowrap text-ink3">
            {plural(columnsOf(page).hidden, 'more column')} left out
          </span>
        )}
      </div>
      {!!error && (
        <p role="alert" className="pt-1 text-xs text-bad">
          {error instanceof Error ? error.message : String(error)}
        </p>
      )}
    </form>
  )
}

function Strip({
  page,
  selection,
  goalKey,
  onClear,
  onCompare,
}: {
  page: RunPage
  selection: Selection
  goalKey: string | undefined
  onClear: () => void
  onCompare: () => void
}) {
  const rows = new Map(page.rows.map((run) => [String(run.number), run]))
  const { project = '', experiment = '' } = useParams()
  const [asking, setAsking] = useState<'label' | 'note' | null>(null)
  const { putAway, pending } = useBinning(project)
  const references = [...selection.keys()].map((number) => `${experiment}/${number}`)
  const about = { project, runs: references, onClose: () => setAsking(null) }
  return (
    <section
      aria-label="Selection"
      className="sticky top-0 z-10 flex h-8 shrink-0 items-center gap-5 overflow-hidden border-b border-line2 bg-bg px-6 text-xs"
    >
      <span className="whitespace-nowrap text-ink2">
        {selection.size ? `${selection.size} selected` : 'None selected: click a row, or press Space on it'}
      </span>
      {[...selection].slice(0, 6).map(([number, slot]) => (
        <span key={number} className="whitespace-nowrap">
          <Key slot={slot} /> <b className="strong">{number}</b>{' '}
          <span className="text-ink2">
            {goalKey ? show(rows.get(number)?.values[goalKey] ?? undefined) : ''} {rows.get(number)?.name}
          </span>
        </span>
      ))}
      <span className="ml-auto flex gap-2">
        <button className="btn" disabled={!selection.size} onClick={onClear}>
          Clear
        </button>
        <button className="btn" disabled={!selection.size} onClick={() => setAsking('label')}>
          Label
        </button>
        <button className="btn" disabled={!selection.size} onClick={() => setAsking('note')}>
          Note
        </button>
        <button
          className="btn"
          disabled={!selection.size || pending}
          onClick={() => putAway(references, onClear)}
        >
          Bin
        </button>
        <button className="btn btn-p" disabled={selection.size < 2} onClick={onCompare}>
          Compare {selection.size > 1 ? selection.size : ''}
        </button>
      </span>
      {asking === 'label' && <LabelDialog {...about} />}
      {asking === 'note' && <NoteDialog {...about} />}
    </section>
  )
}
