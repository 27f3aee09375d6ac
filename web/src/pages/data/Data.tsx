/** An artifact: its versions, the files of one, who used it, and the difference between two. */
import { useState } from 'react'
import { Link, useParams } from 'react-router'
import {
  crateAddress,
  useVersionsOf,
  useDifference,
  useVersion,
  type Artifact,
  type ArtifactVersion,
  type Finding,
  type VersionDetail,
} from '../../api/data'
import { Files } from '../../parts/Files'
import { Section } from '../../parts/Marks'
import { Notes } from '../../parts/Notes'
import { useAddress } from '../../parts/selection'
import { Answer, Page, Waiting } from '../../parts/Shell'
import { useBinning } from '../../parts/useBinning'
import { asNumber, bytes, fullMoment, moment, plural, show } from '../../parts/values'
import { DifferenceView } from './Difference'
import { Described } from './Described'
import { RegisterDialog } from '../../parts/RegisterDialog'
import { UsedBy } from './UsedBy'
import { DataTable } from '../../parts/DataTable'

export default function Data() {
  const { project = '', artifact = '' } = useParams()
  const { data, error } = useVersionsOf(project, artifact)
  const { params } = useAddress()
  const crumbs = [{ text: 'data', to: `/${project}/data` }, { text: artifact }]
  const shown = params.get('version') ?? String(data?.versions.find((row) => !row.binned_at)?.number ?? '')
  const version = useVersion(project, artifact, shown || 'latest')
  if (!data || !version.data) {
    return (
      <Page crumbs={crumbs} at="Data" title={artifact}>
        <Waiting error={error ?? version.error} />
      </Page>
    )
  }
  const found = version.data
  const against = params.get('against')
  return (
    <Page crumbs={crumbs} at="Data" title={found.reference}>
      <Answer
        reason={<Origin found={found} />}
        right={
          <>
            <Link className="btn" to={`/${project}/lineage?of=${found.reference}`}>
              Lineage
            </Link>
            {!found.purged_at && (
              <a className="btn" href={crateAddress(project, found.reference)} download>
                Export
              </a>
            )}
            <RegisterButton project={project} found={found} may={data.may} />
            <BinButton project={project} found={found} may={data.may} />
          </>
        }
      >
        {against ? (
          <Compared project={project} left={against} right={found.reference} />
        ) : (
          <Finding found={found} newest={data.versions[0]} />
        )}
      </Answer>
      <div className="grid grid-cols-12 content-start gap-x-6 gap-y-5 px-6 pb-6">
        {against ? (
          <Comparison project={project} left={against} right={found.reference} />
        ) : (
          <Contents project={project} found={found} />
        )}
        <div className="col-span-4 flex flex-col gap-5">
          <Versions project={project} artifact={data} shown={found.number} />
          <Described project={project} artifact={data} version={found} />
          <UsedBy project={project} found={found} />
          <Notes project={project} of={found.reference} may={data.may.includes('describe')} />
        </div>
      </div>
    </Page>
  )
}

function Finding({ found, newest }: { found: VersionDetail; newest: ArtifactVersion | undefined }) {
  const used = new Set(found.runs.filter((run) => run.relation === 'used').map((run) => run.run))
  const made = new Set(found.runs.filter((run) => run.relation === 'generated').map((run) => run.run))
  const state = found.purged_at
    ? 'was purged: its bytes are gone, what it was is still known'
    : found.damaged
      ? 'is damaged: stored bytes no longer match'
      : found.by_reference
        ? 'is known by reference, its files stay where they are'
        : 'is stored here'
  return (
    <>
      <b>{found.reference}</b>
      {newest && newest.number > found.number && !found.binned_at ? ', an earlier version,' : ''}{' '}
      {found.damaged || found.purged_at ? <b>{state}</b> : state}: {plural(found.file_count, 'file')},{' '}
      {bytes(found.size_bytes)}; {made.size ? `${plural(made.size, 'run')} generated it, ` : ''}
      {used.size ? `${plural(used.size, 'run')} used it.` : 'no run used it.'}
    </>
  )
}

function Origin({ found }: { found: VersionDetail }) {
  const parts = [
    `Made ${moment(found.created_at)} by ${found.made_by}`,
    found.address && `files lie at ${found.address}`,
    found.imported_from && `imported from ${found.imported_from}`,
    found.binned_at &&
      `in the bin since ${moment(found.binned_at)}${found.bin_reason ? `: ${found.bin_reason}` : ''}`,
    found.models.length > 0 && `registered as ${found.models.join(', ')}`,
    found.equal.length > 0 && `the same content as ${found.equal.join(', ')}`,
  ].filter(Boolean)
  return (
    <>
      {parts.join('; ')}. <span className="mono text-ink3">sha256:{found.digest.slice(0, 16)}…</span>
    </>
  )
}

function RegisterButton({ project, found, may }: { project: string; found: VersionDetail; may: string[] }) {
  const [asking, setAsking] = useState(false)
  if (!may.includes('record') || found.purged_at || found.binned_at) return null
  return (
    <>
      <button className="btn" onClick={() => setAsking(true)}>
        Register a version
      </button>
      {asking && (
        <RegisterDialog
          project={project}
          from={{
            artifact: found.reference,
            made: found.runs.some((run) => run.relation === 'generated'),
          }}
          model=""
          onClose={() => setAsking(false)}
        />
      )}
    </>
  )
}

function BinButton({ project, found, may }: { project: string; found: VersionDetail; may: string[] }) {
  const { putAway, giveBack, pending } = useBinning(project)
  if (!may.includes('record') || found.purged_at) return null
  if (found.binned_at) {
    return (
      <button className="btn" disabled={pending} onClick={() => giveBack([found.reference])}>
        Restore
      </button>
    )
  }
  return (
    <button
      className="btn"
      disabled={pending || found.models.length > 0}
      title={found.models.length ? `${found.models.join(', ')} rests on it` : undefined}
      onClick={() => putAway([found.reference])}
    >
      Bin
    </button>
  )
}

function Contents({ project, found }: { project: string; found: VersionDetail }) {
  const { params, changeAll } = useAddress()
  const place = {
    folder: params.get('folder') ?? '',
    file: params.get('file'),
    find: params.get('find') ?? '',
  }
  return (
    <Section className="col-span-8" title="Files" fact={plural(found.file_count, 'file')}>
      <Files
        project={project}
        artifact={found.name}
        version={String(found.number)}
        stored={!found.by_reference && !found.purged_at}
        place={place}
        go={(to) =>
          changeAll(
            { folder: to.folder || null, file: to.file, find: to.find || null },
            to.find !== place.find,
          )
        }
      />
      {Object.keys(found.about).length > 0 && (
        <DataTable
          label="Metadata"
          className="mt-3 text-xs"
          rows={Object.entries(found.about)}
          keyOf={([key]) => key}
          line="border-b border-line"
          columns={[
            { name: 'key', heads: true, className: 'pr-6 text-ink2', cell: ([key]) => key },
            { name: 'value', cell: ([, value]) => show(value) },
          ]}
        />
      )}
    </Section>
  )
}

function Compared({ project, left, right }: { project: string; left: string; right: string }) {
  const { data } = useDifference(project, left, right, undefined, 500)
  if (!data) return <>Comparing …</>
  const [head, tail] = data.sentence.split(/(?<=files)[:]? ?/, 2)
  return tail ? (
    <>
      <b>{head}</b>: {tail}
    </>
  ) : (
    <b>{data.sentence}</b>
  )
}

function Comparison({ project, left, right }: { project: string; left: string; right: string }) {
  const { params, change, changeAll } = useAddress()
  return (
    <Section
      className="col-span-8"
      title="Difference"
      fact={
        <button className="link" onClick={() => changeAll({ against: null, show: null, file: null }, false)}>
          back to the files
        </button>
      }
    >
      <DifferenceView
        project={project}
        left={left}
        right={right}
        shown={(params.get('show') as Finding | null) ?? null}
        choose={(finding) => change('show', finding)}
        file={params.get('file')}
        open={(file) => change('file', file, false)}
      />
    </Section>
  )
}

/** The versions, checkpoints with run, step and what was measured there; by that value where one is chosen. */
function Versions({ project, artifact, shown }: { project: string; artifact: Artifact; shown: number }) {
  const { params, changeAll } = useAddress()
  const against = params.get('against')
  const keys = [...new Set(artifact.checkpoints.flatMap((one) => Object.keys(one.values)))].sort()
  const asked = params.get('by') ?? ''
  const by = keys.includes(asked) ? asked : ''
  const made = new Map(artifact.checkpoints.map((one) => [one.number, one]))
  const rows = by ? byValue(artifact, by) : artifact.versions
  return (
    <Section
      title="Versions"
      fact={
        keys.length > 0 ? (
          <label className="flex items-center gap-1">
            {plural(rows.length, 'version')}, by
            <select
              aria-label="Order of the versions"
              className="field py-0 text-xs"
              value={by}
              onChange={(event) => changeAll({ by: event.target.value || null }, false)}
            >
              <option value="">number</option>
              {keys.map((key) => (
                <option key={key}>{key}</option>
              ))}
            </select>
          </label>
        ) : (
          plural(rows.length, 'version')
        )
      }
    >
      <div tabIndex={0} className="max-h-[260px] overflow-auto">
        <DataTable
          label="Versions"
          rows={rows}
          keyOf={(row) => row.number}
          line={(row) => `h-8 border-b border-line ${row.number === shown ? 'bg-soft' : ''}`}
          columns={[
            {
              name: 'version',
              heads: true,
              className: 'pl-1',
              cell: (row) => (
                <>
                  <Link
                    className="strong hover:underline"
                    aria-current={row.number === shown ? 'true' : undefined}
                    to={`/${project}/data/${row.name}?version=${row.number}`}
                  >
                    {row.reference}
                  </Link>
                  <span className="lab ml-2">{stateOf(row)}</span>
                  <span className="block text-2xs text-ink2">{madeAt(made.get(row.number), by)}</span>
                </>
              ),
            },
            {
              name: 'files',
              right: true,
              className: 'text-ink2',
              title: (row) => fullMoment(row.created_at),
              cell: (row) => (
                <>
                  {plural(row.file_count, 'file')}, {moment(row.created_at)}
                </>
              ),
            },
            {
              name: 'compare',
              right: true,
              className: 'w-[74px]',
              cell: (row) =>
                row.number !== shown && (
                  <button
                    className="btn"
                    aria-pressed={against === row.reference}
                    aria-label={`Compare with ${row.reference}`}
                    onClick={() =>
                      changeAll(
                        { version: String(shown), against: row.reference, file: null, show: null },
                        false,
                      )
                    }
                  >
                    Compare
                  </button>
                ),
            },
          ]}
        />
      </div>
    </Section>
  )
}

/** The best first, by the goal of the run that made it; without a goal the highest; those without the value last. */
function byValue(artifact: Artifact, key: string): ArtifactVersion[] {
  const values = new Map(artifact.checkpoints.map((one) => [one.number, asNumber(one.values[key])]))
  const way = artifact.goals.find((goal) => goal.key === key)?.direction === 'lower' ? 1 : -1
  const known = (row: ArtifactVersion) => values.get(row.number) ?? null
  return [...artifact.versions].sort((a, b) => {
    const [left, right] = [known(a), known(b)]
    if (left === null || right === null) return Number(left === null) - Number(right === null)
    return way * (left - right)
  })
}

function madeAt(made: Artifact['checkpoints'][number] | undefined, by: string): string {
  if (!made) return ''
  const keys = by ? [by] : Object.keys(made.values).slice(0, 2)
  return [`${made.run} step ${made.step}`, ...keys.map((key) => `${key} ${show(made.values[key])}`)].join(
    ', ',
  )
}

const stateOf = (row: ArtifactVersion) =>
  row.purged_at
    ? 'purged'
    : row.binned_at
      ? 'in the bin'
      : row.damaged
        ? 'damaged'
        : row.imported_from
          ? 'imported'
          : ''
