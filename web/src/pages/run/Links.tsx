/** What a run used and generated: each version with its files, its page and its lineage. */
import { useState } from 'react'
import { Link } from 'react-router'
import type { RunDetail } from '../../api/client'
import { Files, type Place } from '../../parts/Files'
import { Section } from '../../parts/Marks'
import { useVersion } from '../../api/data'
import { plural } from '../../parts/values'
import { DataTable } from '../../parts/DataTable'

type Linked = RunDetail['used'][number]

export function Links({
  run,
  title,
  links,
  empty,
}: {
  run: RunDetail
  title: string
  links: Linked[]
  empty: string
}) {
  const [open, setOpen] = useState<string | null>(null)
  return (
    <Section
      className={open ? 'col-span-12' : 'col-span-6'}
      title={title}
      fact={
        links.length > 0 ? (
          <Link className="link" to={`/${run.project}/lineage?of=${run.reference}`}>
            lineage of {plural(links.length, 'version')}
          </Link>
        ) : (
          ''
        )
      }
    >
      <DataTable
        label={title}
        rows={links}
        keyOf={(link) => `${link.reference} ${link.role} ${link.step}`}
        columns={[
          {
            name: 'artifact',
            heads: true,
            className: 'mono',
            cell: (link) => (
              <Link
                className="hover:underline"
                to={`/${run.project}/data/${link.name}?version=${link.version}`}
              >
                {link.reference}
              </Link>
            ),
          },
          {
            name: 'kind',
            className: 'text-ink2',
            cell: (link) => (
              <>
                {link.kind}
                {link.role ? `, ${link.role}` : ''}
                {link.activity ? ` · ${link.activity}` : ''}
                {typeof link.step === 'number' ? ` · step ${link.step.toLocaleString('en')}` : ''}
              </>
            ),
          },
          {
            name: 'content',
            right: true,
            className: 'mono text-ink3',
            title: (link) => `sha256:${link.digest}`,
            cell: (link) => link.digest.slice(0, 12),
          },
          {
            name: 'files',
            right: true,
            className: 'w-[60px]',
            cell: (link) => (
              <button
                className="quiet-act"
                aria-expanded={open === link.reference}
                aria-label={`${open === link.reference ? 'close' : 'files'} of ${link.reference}`}
                onClick={() => setOpen(open === link.reference ? null : link.reference)}
              >
                {open === link.reference ? 'close' : 'files'}
              </button>
            ),
          },
        ]}
      />
      {links.length === 0 && <p className="lab">{empty}</p>}
      {open && <Opened project={run.project} link={links.find((link) => link.reference === open)} />}
    </Section>
  )
}

function Opened({ project, link }: { project: string; link: Linked | undefined }) {
  const [place, setPlace] = useState<Place>({ folder: '', file: null, find: '' })
  const version = useVersion(project, link?.name ?? '', String(link?.version ?? ''))
  if (!link || !version.data) return null
  return (
    <div className="mt-2">
      <Files
        project={project}
        artifact={link.name}
        version={String(link.version)}
        stored={!version.data.by_reference && !version.data.purged_at}
        place={place}
        go={setPlace}
      />
    </div>
  )
}
