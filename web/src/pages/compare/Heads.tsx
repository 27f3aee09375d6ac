/** The runs that stand over the columns of a comparison; a group says how many it is. */
import { Link, useParams } from 'react-router'
import type { Comparison } from '../../api/comparing'
import { Key } from '../../parts/Marks'

export function Heads(props: { data: Comparison; slots: number[]; baseline: number }) {
  const { data, slots, baseline } = props
  const { project = '' } = useParams()
  return data.runs.map((run, at) => (
    <th key={run.reference} scope="col" className="min-w-[84px] pb-1 pl-4 text-right whitespace-nowrap">
      <Key slot={slots[at] ?? 0} />{' '}
      <Link
        className="strong hover:underline"
        to={`/${project}/e/${run.reference}`}
        title={[run.name, at === baseline ? 'the baseline' : ''].filter(Boolean).join(', ') || undefined}
      >
        {run.label}
      </Link>
      {run.replicates.length > 1 && ' '}
      {run.replicates.length > 1 && (
        <span className="lab ml-1 font-normal" title={run.replicates.join(', ')}>
          ×{run.replicates.length}
        </span>
      )}
    </th>
  ))
}
