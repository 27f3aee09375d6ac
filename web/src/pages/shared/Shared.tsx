/** What a link shows to whoever has it: the columns of one arrangement, and the curves of its lens; read-only. */
import { useInfiniteQuery } from '@tanstack/react-query'
import { useEffect, useMemo, useRef } from 'react'
import { useParams } from 'react-router'
import type { Schemas } from '../../api/client'
import { linkPage, useLinkCurves } from '../../api/finding'
import { Curves } from '../../charts/Curves'
import { Key, Status } from '../../parts/Marks'
import { readSelection } from '../../parts/selection'
import { Answer, Waiting } from '../../parts/Shell'
import { arrow, asNumber, decimalsOf, fullMoment, lasting, moment, show } from '../../parts/values'
import { keys } from '../../api/keys'
import { DataTable } from '../../parts/DataTable'

type LinkPage = Schemas['LinkPage']
type LinkRow = Schemas['LinkRow']

export default function Shared() {
  const { secret = '' } = useParams()
  const { data, error, fetchNextPage, hasNextPage, isFetchingNextPage } = useInfiniteQuery({
    queryKey: keys.link(secret, 'pages'),
    queryFn: async ({ pageParam, client }) => client.fetchQuery(linkPage(secret, pageParam)),
    initialPageParam: 0,
    getNextPageParam: (last: LinkPage, all: LinkPage[]) =>
      last.more ? all.reduce((sum, page) => sum + page.rows.length, 0) : undefined,
    retry: false,
  })
  const page = data?.pages[0]
  useEffect(() => {
    document.title = `${page?.experiment ?? 'A view'} · Kinetrum`
  }, [page?.experiment])
  if (!page) return <Waiting error={error} />
  const rows = data.pages.flatMap((each) => each.rows)
  const count = `${page.count.toLocaleString('en')}${page.count_is_capped ? '+' : ''}`
  return (
    <main className="flex min-h-screen flex-col bg-surface">
      <Answer
        reason={`Shown by ${page.author} of ${page.project} until ${fullMoment(page.expires_at)}; read-only.`}
      >
        <b>
          {count} {page.count === 1 ? 'run' : 'runs'} of {page.experiment}
        </b>
        {page.arrangement.q ? (
          <>
            {' '}
            where <code className="mono">{page.arrangement.q}</code>
          </>
        ) : null}
        {page.arrangement.pareto ? `, those that no other beats in ${page.arrangement.pareto}` : null}
      </Answer>
      <SharedCurves secret={secret} page={page} />
      <SharedTable page={page} rows={rows} />
      {hasNextPage && (
        <p className="px-6 py-2">
          <button className="btn" disabled={isFetchingNextPage} onClick={() => void fetchNextPage()}>
            Show more
          </button>
          <span className="ml-3 text-xs text-ink3">
            {rows.length} of {count} are shown
          </span>
        </p>
      )}
    </main>
  )
}

function SharedCurves({ secret, page }: { secret: string; page: LinkPage }) {
  const { data } = useLinkCurves(secret, page.rows.length > 0)
  const canvas = useRef<HTMLCanvasElement | null>(null)
  const selection = useMemo(() => readSelection(page.arrangement.sel ?? null), [page.arrangement.sel])
  const series = useMemo(
    () =>
      (data?.curves ?? []).map((curve) => {
        const number = curve.run.split('/')[1] ?? ''
        return { ...curve, name: curve.run, label: number, slot: selection.get(number) ?? 0 }
      }),
    [data, selection],
  )
  if (!data || data.curves.length === 0) return null
  return (
    <section aria-label="Lens" className="shrink-0 border-y border-line px-6 pt-2">
      <p className="text-xs text-ink2">{data.metric} by step</p>
      <Curves
        series={series}
        waiting={false}
        title={`${data.metric} by step`}
        height={190}
        bound={page.goals.find((goal) => goal.key === data.metric)?.bound}
        axis="step"
        log={page.arrangement.log === 'yes'}
        smoothing={Number(page.arrangement.smooth ?? 0)}
        zoom={null}
        onZoom={() => undefined}
        onDrawn={(drawn) => {
          canvas.current = drawn
        }}
      />
    </section>
  )
}

function written(column: { scope: string; name: string; numeric: boolean; decimals: number }, cell: unknown) {
  if (column.scope === 'field' && column.name === 'duration') return lasting(Number(cell))
  if (column.scope === 'field' && ['started', 'ended'].includes(column.name)) return moment(String(cell))
  return show(cell, column.numeric && column.scope === 'value' ? column.decimals : undefined)
}

function SharedTable({ page, rows }: { page: LinkPage; rows: LinkPage['rows'] }) {
  const selection = readSelection(page.arrangement.sel ?? null)
  const columns = page.columns.map((column, at) => {
    const cells = rows.filter((row) => row.present[at]).map((row) => row.cells[at])
    const numeric = cells.length > 0 && cells.every((cell) => asNumber(cell) !== null)
    const goal =
      column.scope === 'value' && !column.aggregate
        ? page.goals.find((found) => found.key === column.name)
        : undefined
    return { ...column, numeric, decimals: decimalsOf(cells), goal }
  })
  return (
    <div className="overflow-auto">
      <DataTable
        label="Runs"
        className="w-full text-sm"
        rows={rows}
        keyOf={(row) => row.reference}
        head="sticky top-0 h-8 border-b border-line2 bg-surface text-xs text-ink2"
        columns={[
          {
            name: 'Run',
            heads: true,
            headClass: 'pl-6',
            className: 'pl-6 whitespace-nowrap',
            cell: (row) => (
              <>
                <span className="inline-block w-[26px]">
                  {selection.has(String(row.number)) && <Key slot={selection.get(String(row.number)) ?? 0} />}
                </span>
                <b className="strong">{row.number}</b>
                <span className="ml-2 text-xs text-ink2">{row.name}</span>
              </>
            ),
          },
          {
            name: 'Status',
            headClass: 'px-2',
            className: 'px-2 text-xs',
            cell: (row) => <Status status={row.status} />,
          },
          ...columns.map((column, at) => ({
            name: column.text,
            head: `${column.aggregate ? `${column.aggregate}(${column.name})` : column.name}${arrow(column.goal)}`,
            right: column.numeric,
            headClass: 'px-2',
            className: (row: LinkRow) => `px-2 ${row.present[at] ? '' : 'text-ink3'}`,
            cell: (row: LinkRow) => (row.present[at] ? written(column, row.cells[at]) : '–'),
          })),
        ]}
      />
    </div>
  )
}
