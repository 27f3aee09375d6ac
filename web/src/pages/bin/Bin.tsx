/** The bin of a project: runs out of sight, restored in one act. */
import { Link, useParams } from 'react-router'
import { useBin } from '../../api/queries'
import { Status } from '../../parts/Marks'
import { Answer, Page, Waiting } from '../../parts/Shell'
import { useBinning } from '../../parts/useBinning'
import { moment, plural } from '../../parts/values'

export default function Bin() {
  const { project = '' } = useParams()
  const { data: runs, error } = useBin(project)
  const { giveBack, pending } = useBinning(project)
  if (!runs) {
    return (
      <Page crumbs={[{ text: 'bin' }]} at="Experiments" title="Bin">
        <Waiting error={error} />
      </Page>
    )
  }
  return (
    <Page crumbs={[{ text: 'bin' }]} at="Experiments" title="Bin">
      <Answer
        reason="What is here is left out of tables, counts and best runs; everything that was recorded is still there."
        right={
          runs.length > 1 && (
            <button
              className="btn"
              disabled={pending}
              onClick={() => giveBack(runs.map((run) => run.reference))}
            >
              Restore all
            </button>
          )
        }
      >
        <b>{runs.length ? `${plural(runs.length, 'run')} in the bin` : 'The bin is empty'}</b>
        {runs.length ? ', restored in one act.' : '.'}
      </Answer>
      {runs.length > 0 && (
        <table className="mx-6 text-sm" aria-label="Runs in the bin">
          <thead>
            <tr className="h-8 border-b border-line2 text-xs text-ink2">
              <th scope="col">Run</th>
              <th scope="col">Recorded by</th>
              <th scope="col">Binned</th>
              <th scope="col">
                <span className="sr-only">Acts</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {runs.map((run) => (
              <tr key={run.id} className="h-9 border-b border-line">
                <th scope="row">
                  <Link className="link" to={`/${project}/e/${run.reference}`}>
                    {run.reference}
                  </Link>{' '}
                  <span className="text-ink2">{run.name}</span>
                </th>
                <td className="text-xs text-ink2">
                  {run.author}, <Status status={run.status} text={moment(run.started_at)} />
                </td>
                <td className="text-xs text-ink2">
                  {moment(run.binned_at)}
                  {run.binned_by && ` by ${run.binned_by}`}
                </td>
                <td className="text-right">
                  <button
                    className="btn"
                    disabled={pending}
                    aria-label={`Restore ${run.reference}`}
                    onClick={() => giveBack([run.reference])}
                  >
                    Restore
                  </button>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </Page>
  )
}
