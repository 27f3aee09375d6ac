/** Why one came out better, in the order of what is likeliest; and both on the same rows. */
import type { Schemas } from '../../api/client'
import { useJudgedRows, useReasons } from '../../api/comparing'
import { Section } from '../../parts/Marks'
import { DifferencePost } from '../../parts/Post'
import { isTold, outcomeText } from '../../parts/rowsVerdict'
import { useAddress } from '../../parts/selection'
import { plural, show, signed } from '../../parts/values'
import { DataTable } from '../../parts/DataTable'

const KINDS: Record<string, string> = {
  setting: 'setting', data: 'data', code: 'code', environment: 'machine', noise: 'noise',
} // prettier-ignore
const FIRST = 6

/** On how many rows a difference rests, by which method, and its interval where there is one. */
function saidOf(row: Schemas['RowsVerdict']) {
  const interval = row.low === null || row.high === null ? '' : `${signed(row.low)} to ${signed(row.high)}, `
  return `${interval}${row.method === 'none' ? '' : `${row.method}, `}${plural(row.rows, 'row')}`
}

export function Why(props: { project: string; runs: string[]; keys: string[]; first: string }) {
  const { project, runs, keys, first } = props
  const { params, change } = useAddress()
  const asked = params.get('why')
  const on = asked !== null && keys.includes(asked) ? asked : first
  const { data, error } = useReasons(project, runs, on)
  if (error || !data) return null
  return (
    <Section
      className="col-span-7 min-w-0"
      title="Why, the likeliest first"
      fact={
        <label className="flex items-center gap-1 text-xs">
          of
          <select
            aria-label="Why this value differs"
            className="field max-w-44 py-0 text-xs"
            value={data.key}
            onChange={(event) => change('why', event.target.value)}
          >
            {keys.map((key) => (
              <option key={key}>{key}</option>
            ))}
          </select>
        </label>
      }
    >
      <ol>
        {data.reasons.slice(0, FIRST).map((reason) => (
          <li
            key={`${reason.kind} ${reason.name}`}
            className="grid grid-cols-[74px_60px_1fr] items-start gap-x-3 border-b border-line py-1"
          >
            <span className="text-xs text-ink2">{KINDS[reason.kind]}</span>
            <span className="mt-1.5 h-1.5 bg-line" title={`weight ${reason.weight.toFixed(2)}`}>
              <span
                className="block h-full bg-accent"
                style={{ width: `${Math.round(reason.weight * 100)}%` }}
              />
            </span>
            <span className="min-w-0 break-words">{reason.text}</span>
          </li>
        ))}
      </ol>
      <p className="lab py-1">
        {data.reasons.length > FIRST &&
          `${plural(data.reasons.length - FIRST, 'less likely one')} not shown. `}
        What other runs show is what goes along with a setting, no proof that it is the cause.
      </p>
    </Section>
  )
}

export function SameRows({ project, runs }: { project: string; runs: string[] }) {
  const { data } = useJudgedRows(project, runs)
  const judged = (data ?? []).filter((one) => one.differences.length > 0 || one.note)
  if (judged.length === 0) return null
  return (
    <Section className="col-span-5 min-w-0" title="On the same rows" fact="first less second">
      {judged.map((one) => (
        <div key={one.name}>
          {one.note && <p className="lab py-1">{one.note}</p>}
          <DataTable
            label={`On the same rows: ${one.name}`}
            className="w-full"
            rows={one.differences}
            keyOf={(row) => row.measure}
            columns={[
              { name: 'measure', heads: true, cell: (row) => row.measure },
              { name: 'left', right: true, className: 'pl-3', cell: (row) => show(row.left) },
              { name: 'right', right: true, className: 'pl-3 text-ink2', cell: (row) => show(row.right) },
              { name: 'change', right: true, className: 'pl-3', cell: (row) => signed(row.change ?? 0) },
              {
                name: 'interval',
                className: 'pl-3',
                title: saidOf,
                cell: (row) => (
                  <DifferencePost
                    change={row.change ?? 0}
                    low={row.low}
                    high={row.high}
                    beyond={isTold(row)}
                    verdict={row.outcome === 'better' || row.outcome === 'worse' ? row.outcome : 'equal'}
                    higher={row.higher_is_better}
                    said={saidOf(row)}
                    width={90}
                  />
                ),
              },
              {
                name: 'outcome',
                className: (row) => `pl-3 text-xs ${isTold(row) ? 'strong' : 'text-ink3'}`,
                cell: outcomeText,
              },
            ]}
          />
        </div>
      ))}
      <p className="lab py-1">
        {plural(judged[0]?.differences[0]?.rows ?? 0, 'row')} that both predicted; {methodsOf(judged)}.
      </p>
    </Section>
  )
}

/** By which method what is judged: `accuracy by Tango's score test; mae by paired t`; what is too few to tell has none. */
export function methodsOf(judged: { differences: { measure: string; method: string }[] }[]): string {
  const by = new Map<string, Set<string>>()
  for (const { measure, method } of judged.flatMap((one) => one.differences))
    if (method !== 'none') by.set(method, (by.get(method) ?? new Set()).add(measure))
  return [...by]
    .map(([method, measures]) => `${new Intl.ListFormat('en-GB').format(measures)} by ${method}`)
    .join('; ')
}
