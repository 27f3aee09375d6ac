import { Link } from 'react-router'
import { runPath } from './values'

/** A run's reference as a link to its page; where it may not be seen, the words that say so stand there instead. */
export function RunLink({ project, run }: { project: string; run: string }) {
  if (!run.includes('/')) return <span className="text-ink3">{run}</span>
  return (
    <Link className="link" to={runPath(project, run)}>
      {run}
    </Link>
  )
}
