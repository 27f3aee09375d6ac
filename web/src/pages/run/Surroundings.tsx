/** Where a run ran: code, packages, job and machine, and one click away what of them differs from another run. */
import type { RunDetail, Schemas } from '../../api/client'
import { useSurroundings } from '../../api/following'
import { Fact, Section } from '../../parts/Marks'
import { useAddress } from '../../parts/selection'
import { plural, show } from '../../parts/values'
import { DataTable } from '../../parts/DataTable'

const VIEWS = ['changes', 'packages', 'previous', 'parent'] as const
type View = (typeof VIEWS)[number]

const ABOUT = ['command', 'python', 'user', 'process']

export function Surroundings({ run }: { run: RunDetail }) {
  const { params, change } = useAddress()
  const asked = params.get('surroundings')
  const view = VIEWS.find((one) => one === asked) ?? null
  const code = run.code
  const offered: [View, string][] = [
    ['changes', 'Code as it was'],
    ['packages', 'Packages'],
    ...(run.previous ? ([['previous', `Against ${run.previous}`]] as [View, string][]) : []),
    ...(run.parent ? ([['parent', `Against its parent ${run.parent}`]] as [View, string][]) : []),
  ]
  return (
    <Section className="col-span-4" title="Code and environment">
      <dl className="text-xs">
        {code && <CodeFacts code={code} />}
        {ABOUT.filter((key) => key in run.about).map((key) => (
          <Fact key={key} term={key}>
            <span className="mono">{show(run.about[key])}</span>
          </Fact>
        ))}
        {run.job.job && (
          <Fact term="job">
            <Job job={run.job.job} />
          </Fact>
        )}
        <Fact term="id">
          <span className="mono">{run.id}</span>
        </Fact>
      </dl>
      <div className="flex flex-wrap gap-2 pt-2">
        {offered.map(([name, text]) => (
          <button
            key={name}
            className={`btn leading-[18px] ${view === name ? 'btn-p' : ''}`}
            aria-pressed={view === name}
            onClick={() => change('surroundings', view === name ? null : name)}
          >
            {text}
          </button>
        ))}
      </div>
    </Section>
  )
}

function Job({ job }: { job: string }) {
  if (!/^https?:\/\//.test(job)) return job
  return (
    <a className="link break-all" href={job} rel="noreferrer">
      {job}
    </a>
  )
}

function CodeFacts({ code }: { code: Schemas['Repository'] }) {
  return (
    <>
      {code.commit && (
        <Fact term="commit">
          <span className="mono" title={code.commit}>
            {code.commit.slice(0, 12)}
          </span>
          {code.branch && <> on {code.branch}</>}
          {code.state && <span className="text-bad"> · {code.state}</span>}
          <span className="text-ink2">
            {code.changed_files > 0 && ` · ${plural(code.changed_files, 'file')} changed`}
            {code.untracked_files > 0 && ` · ${code.untracked_files} untracked`}
          </span>
        </Fact>
      )}
      {code.address && (
        <Fact term="repository">
          <span className="mono">{code.address}</span>
        </Fact>
      )}
      {code.entry && (
        <Fact term="script">
          <span className="mono">{code.entry}</span>
        </Fact>
      )}
      {(code.cut || code.hidden_lines > 0) && (
        <Fact term="left out">
          {[code.cut, code.hidden_lines > 0 && `${plural(code.hidden_lines, 'line')} that look like secrets`]
            .filter(Boolean)
            .join('; ')}
        </Fact>
      )}
    </>
  )
}

/** What was asked for with the buttons of `Surroundings`, over the whole width. */
export function SurroundingsDetail({ run }: { run: RunDetail }) {
  const { params } = useAddress()
  const view = VIEWS.find((one) => one === params.get('surroundings')) ?? null
  const against = view === 'previous' || view === 'parent' ? view : null
  const { data, error } = useSurroundings(run, against, view !== null)
  if (view === null) return null
  if (!data) return <p className="lab col-span-12">{error ? error.message : 'Reading …'}</p>
  return (
    <Section className="col-span-12" title={TITLES[view]} fact={data.against ?? undefined}>
      {view === 'packages' && <Packages packages={data.packages} />}
      {view === 'changes' && <Code found={data} />}
      {against && <Differences found={data} run={run} />}
    </Section>
  )
}

const TITLES: Record<View, string> = {
  changes: 'Code as it was',
  packages: 'Packages',
  previous: 'What surrounds it differently',
  parent: 'What surrounds it differently',
}

function Packages({ packages }: { packages: Record<string, string> }) {
  const rows = Object.entries(packages)
  if (rows.length === 0) return <p className="lab">No packages were caught.</p>
  return (
    <ul className="mono columns-[220px] gap-6">
      {rows.map(([name, version]) => (
        <li key={name} className="flex justify-between gap-2 border-b border-line py-px">
          <span className="truncate">{name}</span>
          <span className="text-ink2">{version}</span>
        </li>
      ))}
    </ul>
  )
}

function Code({ found }: { found: Schemas['Surroundings'] }) {
  if (!found.difference && !found.script)
    return (
      <p className="lab">
        {found.code?.commit ? 'Nothing was changed since the commit.' : 'No code was caught.'}
      </p>
    )
  return (
    <>
      {found.difference && <Difference text={found.difference} name="Uncommitted changes" />}
      {found.script && <Difference text={found.script} name="Script that git does not know" plain />}
    </>
  )
}

const CHANGES: Record<string, string> = {
  same: 'The code is the same.',
  unknown: 'Whether the code differs is not known.',
  'other commit': 'It is another commit.',
  'other uncommitted changes': 'The commit is the same, the uncommitted changes differ.',
}

function Differences({ found, run }: { found: Schemas['Surroundings']; run: RunDetail }) {
  const rows = [...found.about_changes, ...found.package_changes]
  return (
    <>
      <p className="text-sm">
        {CHANGES[found.code_change ?? 'unknown']}
        {found.code_change === 'other commit' && (
          <span className="mono">
            {' '}
            {found.against_code?.commit?.slice(0, 12)} → {found.code?.commit?.slice(0, 12)}
          </span>
        )}{' '}
        {rows.length === 0 && 'Packages and machine are the same.'}
      </p>
      {rows.length > 0 && (
        <DataTable
          label="Surroundings that differ"
          className="w-full max-w-[900px] text-xs"
          rows={rows}
          keyOf={(row) => row.name}
          head="lab h-6"
          line="border-b border-line align-top"
          bodyClass="mono"
          columns={[
            { name: 'what', heads: true, className: 'py-px pr-4', cell: (row) => row.name },
            {
              name: 'there',
              head: found.against,
              className: 'pr-4 break-all text-ink2',
              cell: (row) => row.there ?? '–',
            },
            {
              name: 'here',
              head: run.reference,
              className: 'strong break-all',
              cell: (row) => row.here ?? '–',
            },
          ]}
        />
      )}
      {found.code_change_text && <Difference text={found.code_change_text} name="Difference of the code" />}
    </>
  )
}

const TONES: Record<string, string> = { '+': 'printed-added', '-': 'printed-removed', '@': 'text-ink3' }

function Difference({ text, name, plain = false }: { text: string; name: string; plain?: boolean }) {
  return (
    <pre
      className="mono my-2 max-h-[480px] overflow-auto bg-bg px-3 py-2 whitespace-pre"
      tabIndex={0}
      role="region"
      aria-label={name}
    >
      {text.split('\n').map((line, at) => (
        <div key={at} className={plain ? '' : (TONES[line[0] ?? ''] ?? '')}>
          {line || ' '}
        </div>
      ))}
    </pre>
  )
}
