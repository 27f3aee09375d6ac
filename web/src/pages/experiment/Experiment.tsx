/** An experiment: one wide chart, the lens, above the run table; one selection for both. */
import { lazy, Suspense, useMemo, useState } from 'react'
import { useNavigate, useParams } from 'react-router'
import type { RunPage } from '../../api/client'
import { useFirstPage, type Asked } from '../../api/finding'
import { useExperiment } from '../../api/queries'
import { useActions, type Action } from '../../parts/actions'
import { Page, Waiting } from '../../parts/Shell'
import { useSelection, type Selection } from '../../parts/selection'
import { plural } from '../../parts/values'
import { Empty } from '../project/Project'
import { Leader } from './Leader'
import { Lens } from './Lens'
import { lensOf } from './LensTitle'
import { Search } from './Search'
import { Strip } from './Strip'
import { useArrangement, type Arrangement } from './arrangement'
import { columnsOf, keysOf, type Shown } from './columns'
import { RunTable } from './table/RunTable'
import { ColumnsButton } from './tools/Columns'
import { Grouping } from './tools/Grouping'
import { copy, TakeAlong } from './tools/TakeAlong'
import { ViewsMenu } from './tools/Views'
import { sortParts } from './words'

const FilterDialog = lazy(async () => ({ default: (await import('./tools/Filter')).FilterDialog }))
const KeptLens = lazy(async () => ({ default: (await import('./KeptLens')).KeptLens }))
const RunsLens = lazy(() => import('./lens/RunsLens'))
const Parallel = lazy(() => import('./lens/Parallel'))
const EffectsLens = lazy(() => import('./lens/EffectsLens'))

type Place = { project: string; experiment: string }

export default function Experiment() {
  const { project = '', experiment = '' } = useParams()
  const place = useMemo(() => ({ project, experiment }), [project, experiment])
  const summary = useExperiment(project, experiment)
  const arranged = useArrangement(summary.data)
  const { selection } = useSelection()
  const { params, query, sort, columns, fold, pareto } = arranged
  const y = params.get('y')
  const asked: Asked = useMemo(() => {
    const key = [y, sortParts(sort)[0]?.name].filter((name): name is string => !!name)
    return { query, sort, column: columns, fold, key, pareto }
  }, [query, sort, columns, fold, y, pareto])
  const page = useFirstPage(project, experiment, asked)
  const current = useLastGood(page.data, asked, experiment)
  const crumbs = [{ text: experiment }]
  if (!summary.data || (!page.data && !page.error)) {
    return (
      <Page crumbs={crumbs} at="Experiments" title={experiment}>
        <Waiting error={summary.error} />
      </Page>
    )
  }
  const shown = current ? columnsOf(current.page) : undefined
  return (
    <Page crumbs={crumbs} at="Experiments" title={experiment}>
      <Leader project={project} summary={summary.data} slotOf={selection} />
      {summary.data.runs === 0 ? (
        <div className="px-6">
          <Empty project={project} experiment={experiment} />
        </div>
      ) : (
        <>
          <Tools place={place} arranged={arranged} page={current?.page} shown={shown} error={page.error} />
          {current && shown && (
            <Rows
              place={place}
              arranged={arranged}
              asked={current.asked}
              page={current.page}
              shown={shown}
              total={query || fold || pareto ? undefined : summary.data.runs}
            />
          )}
        </>
      )}
    </Page>
  )
}

/** While a query is wrong, the table stays as it was. */
function useLastGood(page: RunPage | undefined, asked: Asked, experiment: string) {
  const [good, setGood] = useState<{ page: RunPage; asked: Asked } | null>(null)
  if (page && page !== good?.page) setGood({ page, asked })
  return good?.page.rows.every((run) => run.experiment === experiment) ? good : null
}

function Tools(props: {
  place: Place
  arranged: Arrangement
  page: RunPage | undefined
  shown: Shown | undefined
  error: unknown
}) {
  const { place, arranged, page, shown, error } = props
  const { query, sort, columns, group, fold, pareto, params, change, changeAll } = arranged
  const counted = page
    ? page.count_is_capped
      ? `${page.count.toLocaleString('en')}+ runs`
      : plural(page.count, 'run')
    : ''
  const filtering = params.get('filter')
  return (
    <div className="flex shrink-0 items-start gap-2 px-6 pb-2">
      <Search
        key={query}
        project={place.project}
        experiment={place.experiment}
        query={query}
        counted={counted}
        error={error}
        remarks={page?.remarks ?? []}
        onAsk={(text) => change('q', text, false)}
      />
      {(query || pareto) && (
        <button className="btn h-7" onClick={() => changeAll({ q: null, pareto: null }, false)}>
          Show all
        </button>
      )}
      {pareto && (
        <span className="lab mt-1.5 whitespace-nowrap" title={`Only runs that no other beats in ${pareto}`}>
          trade-off of {pareto.replace(',', ' and ')}
        </span>
      )}
      <button className="btn h-7" onClick={() => change('filter', 'any')}>
        Filter
      </button>
      {page && shown && (
        <>
          <Grouping
            page={page}
            group={group}
            fold={fold}
            onGroup={(by) => changeAll({ group: by, fold: by ? null : params.get('fold') }, false)}
            onFold={(on) => change('fold', on ? 'yes' : 'no', false)}
          />
          <ColumnsButton
            page={page}
            shown={shown}
            chosen={columns}
            onColumns={(texts) => change('cols', texts ? texts.join(',') : null)}
          />
          <ViewsMenu place={place} params={params} />
          <TakeAlong
            place={place}
            query={query}
            sort={sort}
            columns={columns}
            pareto={pareto}
            python={inGroups(page.python, group)}
            shell={inGroups(page.shell, group)}
            metric={params.get('y') ?? keysOf(page, true)[0]?.name}
          />
        </>
      )}
      {filtering && (
        <Suspense>
          <FilterDialog
            place={place}
            query={query}
            name={filtering === 'any' ? null : filtering}
            onName={(name) => change('filter', name)}
            onAsk={(text) => changeAll({ q: text, filter: null }, false)}
            onClose={() => change('filter', null)}
          />
        </Suspense>
      )}
    </div>
  )
}

/** The lines that the service wrote, of groups where they are on screen. */
function inGroups(line: string, group: string | null): string {
  if (!group) return line
  if (line.startsWith('kinetrum.runs('))
    return line.replace(/\.to_pandas\(\)$/, `.groups(${JSON.stringify(group)})`)
  const quoted = /^[\w@%+=:,./-]+$/.test(group) ? group : `'${group.replaceAll("'", `'"'"'`)}'`
  return group === 'replicates' ? `${line} --replicates` : `${line} --group ${quoted}`
}

function Rows(props: {
  place: Place
  arranged: Arrangement
  asked: Asked
  page: RunPage
  shown: Shown
  total: number | undefined
}) {
  const { place, arranged, asked, page, shown, total } = props
  const { project, experiment } = place
  const { params, change, changeAll, sort, group, pins, widths, columns } = arranged
  const { selection, toggle, select, clear } = useSelection()
  const navigate = useNavigate()
  const open = (reference: string) => void navigate(`/${project}/e/${reference}`)
  const compare = () => {
    const runs = [...selection].map(([number, slot]) => `run=${experiment}/${number}~${slot}`).join('&')
    void navigate(`/${project}/compare?${runs}`)
  }
  const inTable = shown.columns.filter(
    (column) => !group || (column.text !== group && column.scope !== 'field'),
  )
  // What the address says is ahead of what came back.
  const texts = columns.length ? columns : shown.columns.map((column) => column.text)
  const order = (after: string[]) => change('cols', after.join(','))
  const acts = {
    sort,
    onSort: (after: string) => change('sort', after),
    onHide: (text: string) => order(texts.filter((other) => other !== text)),
    onPin: (text: string) =>
      change(
        'pin',
        (pins.includes(text) ? pins.filter((other) => other !== text) : [...pins, text]).join(',') || null,
      ),
    onMove: (text: string, by: number) => {
      const at = texts.indexOf(text)
      const to = Math.max(0, Math.min(texts.length - 1, at + by))
      const after = texts.filter((other) => other !== text)
      after.splice(to, 0, text)
      order(after)
    },
    onPlace: (text: string, before: string) => {
      const forward = texts.indexOf(text) < texts.indexOf(before)
      const after = texts.filter((other) => other !== text)
      after.splice(after.indexOf(before) + (forward ? 1 : 0), 0, text)
      order(after)
    },
    onWidth: (text: string, width: number) => {
      const after = new Map(widths).set(text, width)
      change('wide', [...after].map(([name, size]) => `${name}~${size}`).join(','))
    },
    onGroup: (text: string) => change('group', text, false),
    onFilter: (text: string) => change('filter', text),
  }
  const forGroups = useMemo(
    () => ({ ...asked, column: group ? inTable.map((column) => column.text) : asked.column }),
    [asked, group, inTable.map((column) => column.text).join(',')], // eslint-disable-line react-hooks/exhaustive-deps
  )
  const actions: Action[] = [
    { name: `Compare ${plural(selection.size, 'selected run')}`, words: 'diff side by side', act: compare, off: selection.size < 2 },
    { name: 'Clear the selection', words: 'deselect none', act: clear, off: selection.size === 0 },
    { name: 'Group by replicates', words: 'seeds mean noise repeat', act: () => change('group', 'replicates') },
    { name: 'A line for every run', words: 'ungroup', act: () => change('group', null), off: !group },
    { name: 'Filter by values', words: 'facets range where', act: () => change('filter', 'any') },
    { name: 'Show what differs', words: 'columns reset default', act: () => change('cols', null), off: !columns.length },
    { name: 'Show all runs', words: 'clear query filter', act: () => change('q', null, false), off: !params.get('q') },
    { name: 'Forget this arrangement', words: 'reset view defaults', act: () => changeAll(Object.fromEntries([...params.keys()].map((name) => [name, null]))) },
    { name: 'Copy as Python', words: 'code notebook dataframe', act: () => void copy(inGroups(page.python, group), 'The line of Python') },
    { name: 'Copy as shell', words: 'command terminal', act: () => void copy(inGroups(page.shell, group), 'The command') },
  ] // prettier-ignore
  useActions('experiment', actions)
  return (
    <>
      <Suspense fallback={<section aria-label="Lens" className="h-[282px] border-y border-line" />}>
        <ChosenLens place={place} arranged={arranged} page={page} selection={selection} onOpen={open} />
      </Suspense>
      <Strip
        place={place}
        page={page}
        selection={selection}
        columns={columns}
        onClear={clear}
        onCompare={compare}
        goalKey={page.goals[0]?.key ?? keysOf(page, true)[0]?.name}
      />
      <RunTable
        place={place}
        asked={forGroups}
        group={group}
        page={page}
        total={total}
        columns={inTable}
        pins={pins}
        widths={widths}
        acts={acts}
        selection={selection}
        onToggle={toggle}
        onSelect={select}
        onOpen={open}
      />
    </>
  )
}

function ChosenLens(props: {
  place: Place
  arranged: Arrangement
  page: RunPage
  selection: Selection
  onOpen: (reference: string) => void
}) {
  const { place, arranged, page, selection, onOpen } = props
  const { query, sort, pareto, params } = arranged
  const given = { place, page, query, sort, pareto, selection, onOpen }
  const kind = lensOf(params)
  if (kind === 'kept') return <KeptLens page={page} selection={selection} />
  if (kind === 'parallel') return <Parallel {...given} />
  if (kind === 'effects') return <EffectsLens {...given} />
  if (kind === '') return <Lens page={page} selection={selection} onOpen={onOpen} />
  return <RunsLens {...given} />
}
