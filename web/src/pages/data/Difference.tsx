/** Two versions side by side, file by file: words and signs tell what became of each, colour only helps. */
import { useState } from 'react'
import { useDifference, useFileDifference, type FilePair, type Finding } from '../../api/data'
import { bytes, plural, signed } from '../../parts/values'
import { DataTable } from '../../parts/DataTable'

const TONES: Record<Finding, string> = {
  'only left': 'text-bad',
  'only right': 'text-accent',
  changed: 'text-ink',
  moved: 'text-ink2',
  same: 'text-ink3',
}

export function DifferenceView({
  project,
  left,
  right,
  shown,
  choose,
  file,
  open,
}: {
  project: string
  left: string
  right: string
  shown: Finding | null
  choose: (finding: Finding | null) => void
  file: string | null
  open: (file: string | null) => void
}) {
  const [limit, setLimit] = useState(500)
  const { data, error } = useDifference(project, left, right, shown ? [shown] : undefined, limit)
  if (error) return <p className="py-2 text-xs text-bad">{error.message}</p>
  if (!data) return <p className="lab py-2">Comparing …</p>
  const signs = Object.fromEntries(data.counts.map((count) => [count.finding, count.sign]))
  return (
    <div>
      <p className="flex flex-wrap items-center gap-1 py-2 text-xs" role="group" aria-label="Show">
        <button
          className={`chip ${shown === null ? 'chip-on' : ''}`}
          aria-pressed={shown === null}
          onClick={() => choose(null)}
        >
          all that differ
        </button>
        {data.counts.map((count) => (
          <button
            key={count.finding}
            className={`chip ${shown === count.finding ? 'chip-on' : ''}`}
            aria-pressed={shown === count.finding}
            disabled={count.files === 0}
            onClick={() => choose(count.finding)}
          >
            {count.sign} {count.files.toLocaleString('en')} {count.finding}
          </button>
        ))}
      </p>
      <div tabIndex={0} className={`overflow-auto ${file ? 'max-h-[180px]' : 'max-h-[520px]'}`}>
        <table className="w-full text-xs" aria-label="Differences">
          <thead>
            <tr className="lab h-6">
              <th scope="col">{left}</th>
              <th scope="col" className="w-[104px]">
                <span className="sr-only">finding</span>
              </th>
              <th scope="col">{right}</th>
              <th scope="col" className="text-right">
                size
              </th>
            </tr>
          </thead>
          <tbody>
            {data.pairs.map((pair) => (
              <Pair
                key={`${pair.left?.path} ${pair.right?.path}`}
                pair={pair}
                sign={signs[pair.finding] ?? ''}
                chosen={file !== null && pair.right?.path === file && pair.finding === 'changed'}
                open={() => open(pair.right?.path === file ? null : (pair.right?.path ?? null))}
              />
            ))}
          </tbody>
        </table>
      </div>
      {data.pairs.length === 0 && <p className="lab py-2">There is nothing to show.</p>}
      {data.more > 0 && (
        <p className="py-1 text-xs">
          <button className="link" onClick={() => setLimit(limit + 5_000)}>
            Show more of {plural(data.more, 'further file')}
          </button>
        </p>
      )}
      {file && <Inside project={project} left={`${left}:${file}`} right={`${right}:${file}`} file={file} />}
    </div>
  )
}

/** An absent side is a short rule. */
const Absent = () => (
  <span className="inline-block w-6 border-b border-line2 align-middle" aria-label="not there" role="img" />
)

function Pair({
  pair,
  sign,
  chosen,
  open,
}: {
  pair: FilePair
  sign: string
  chosen: boolean
  open: () => void
}) {
  const both = pair.left && pair.right && pair.left.size !== pair.right.size
  const size = (pair.right ?? pair.left)?.size ?? 0
  return (
    <tr className={`h-7 border-b border-line ${chosen ? 'bg-soft' : ''}`}>
      <td className="mono">{pair.left ? pair.left.path : <Absent />}</td>
      <td className={`whitespace-nowrap ${TONES[pair.finding]}`}>
        <span className="strong inline-block w-4 text-center">{sign}</span> {pair.finding}
      </td>
      <td className="mono">
        {pair.finding === 'changed' ? (
          <button className="link" aria-pressed={chosen} onClick={open}>
            {pair.right?.path}
          </button>
        ) : pair.right ? (
          pair.right.path
        ) : (
          <Absent />
        )}
      </td>
      <td className="text-right whitespace-nowrap text-ink2">
        {both && pair.left ? `${bytes(pair.left.size)} → ` : ''}
        {bytes(size)}
      </td>
    </tr>
  )
}

function Inside({
  project,
  left,
  right,
  file,
}: {
  project: string
  left: string
  right: string
  file: string
}) {
  const { data, error } = useFileDifference(project, left, right)
  return (
    <section aria-label={`What changed in ${file}`} className="mt-2 border-t border-line2 pt-2">
      {error && <p className="text-xs text-ink2">{error.message}</p>}
      {!data && !error && <p className="lab">Comparing …</p>}
      {data && <p className="strong text-sm">{data.sentence}</p>}
      {data && data.columns.length > 0 && (
        <DataTable
          label="Columns that differ"
          className="mt-1 text-xs"
          rows={data.columns}
          keyOf={(column) => column.name}
          head="lab"
          line="border-b border-line"
          columns={[
            {
              name: 'column',
              heads: true,
              headClass: 'pr-6',
              className: 'mono pr-6',
              cell: ({ name }) => name,
            },
            {
              name: 'rows',
              right: true,
              headClass: 'pr-6',
              className: 'pr-6',
              cell: (column) => column.rows.toLocaleString('en'),
            },
            ...(
              [
                ['on average', 'mean'],
                ['least', 'least'],
                ['most', 'most'],
              ] as const
            ).map(([name, part]) => ({
              name,
              right: true,
              headClass: 'pr-6',
              className: 'pr-6',
              cell: (column: (typeof data.columns)[number]) =>
                column[part] === null ? 'text' : signed(column[part]),
            })),
          ]}
        />
      )}
      {data?.text && <Lines text={data.text} />}
    </section>
  )
}

/** A unified difference with the sign in a column of its own, so that no minus of a number is taken for one. */
function Lines({ text }: { text: string }) {
  const lines = text.split('\n').filter((line) => !/^(---|\+\+\+) (left|right)$/.test(line))
  return (
    <div tabIndex={0} className="mono mt-2 max-h-[260px] overflow-auto bg-bg p-2">
      <table>
        <tbody>
          {lines.slice(0, 600).map((line, at) => {
            const place = line.startsWith('@@')
            const sign = place ? '' : (line[0] ?? ' ')
            const tone = sign === '+' ? 'text-accent' : sign === '-' ? 'text-bad' : 'text-ink2'
            return (
              <tr key={at} className={tone}>
                <td className="strong w-8 border-r border-line pr-2 text-center">
                  {sign === '-' ? '−' : sign}
                </td>
                <td className="pl-2 whitespace-pre">{place ? line : line.slice(1)}</td>
              </tr>
            )
          })}
        </tbody>
      </table>
      {lines.length > 600 && <p className="lab">{plural(lines.length - 600, 'more line')}</p>}
    </div>
  )
}
