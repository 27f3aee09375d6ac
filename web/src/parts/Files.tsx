/** The files of a version, folder by folder, with a look into the one that is chosen. */
import { Link } from 'react-router'
import type { Schemas } from '../api/client'
import { bundleAddress, useListing } from '../api/data'
import { Preview } from './Preview'
import { bytes, fullMoment, plural } from './values'
import { DataTable } from './DataTable'

export type Place = { folder: string; file: string | null; find: string }

type Entry = { folder: Schemas['Folder'] } | { entry: Schemas['FileEntry'] }

export function Files({
  project,
  artifact,
  version,
  stored,
  place,
  go,
}: {
  project: string
  artifact: string
  version: string
  stored: boolean
  place: Place
  go: (place: Place) => void
}) {
  const { folder, file, find } = place
  const { data, error } = useListing(project, artifact, version, { folder, find })
  const parts = folder ? folder.split('/') : []
  const into = (to: string) => go({ folder: to, file: null, find: '' })
  return (
    <div>
      <p className="flex items-center gap-1 py-1 text-xs">
        <nav aria-label="Folder" className="mono flex min-w-0 items-baseline gap-1">
          <button className="link" onClick={() => into('')}>
            {artifact}@{version}
          </button>
          {parts.map((part, at) => (
            <span key={at} className="flex items-baseline gap-1">
              <span className="text-ink3">/</span>
              <button className="link" onClick={() => into(parts.slice(0, at + 1).join('/'))}>
                {part}
              </button>
            </span>
          ))}
        </nav>
        <input
          aria-label="Find files"
          className="field ml-auto w-44 py-0 text-xs"
          placeholder="find in all folders"
          value={find}
          spellCheck={false}
          onChange={(event) => go({ folder, file, find: event.target.value })}
        />
        {stored && (
          <a className="link ml-3" href={bundleAddress(project, artifact, version, folder)} download>
            Download {folder ? 'folder' : 'all'}
          </a>
        )}
      </p>
      {error && <p className="py-2 text-xs text-bad">{error.message}</p>}
      <div tabIndex={0} className={`overflow-auto ${file ? 'max-h-[210px]' : 'max-h-[560px]'}`}>
        <DataTable<Entry>
          label="Files"
          head="sr-only"
          rows={[
            ...(data?.folders ?? []).map((found) => ({ folder: found })),
            ...(data?.files ?? []).map((entry) => ({ entry })),
          ]}
          keyOf={(row) => ('folder' in row ? `${row.folder.name}/` : row.entry.path)}
          line={(row) =>
            `h-7 border-b border-line ${'entry' in row && row.entry.path === file ? 'bg-soft' : ''}`
          }
          columns={[
            {
              name: 'Path',
              heads: true,
              className: 'mono',
              cell: (row) =>
                'folder' in row ? (
                  <button
                    className="hover:underline"
                    onClick={() => into(folder ? `${folder}/${row.folder.name}` : row.folder.name)}
                  >
                    {row.folder.name}/
                  </button>
                ) : (
                  <button
                    className="hover:underline"
                    aria-pressed={row.entry.path === file}
                    onClick={() =>
                      go({ folder, file: row.entry.path === file ? null : row.entry.path, find })
                    }
                  >
                    {find ? row.entry.path : row.entry.path.slice(folder ? folder.length + 1 : 0)}
                  </button>
                ),
            },
            {
              name: 'Last change',
              className: 'text-ink3',
              title: (row) => ('entry' in row ? (row.entry.address ?? undefined) : undefined),
              cell: (row) =>
                'folder' in row
                  ? plural(row.folder.files, 'file')
                  : row.entry.modified
                    ? fullMoment(new Date(row.entry.modified / 1000).toISOString())
                    : '',
            },
            {
              name: 'Content',
              className: 'mono text-ink3',
              cell: (row) => ('entry' in row ? row.entry.sha256.slice(0, 8) : null),
            },
            {
              name: 'Size',
              right: true,
              className: 'text-ink2',
              cell: (row) => bytes('folder' in row ? row.folder.size_bytes : row.entry.size),
            },
          ]}
        />
        {data && data.files.length + data.folders.length === 0 && <p className="lab py-2">No file fits.</p>}
      </div>
      {data && data.more_files > 0 && (
        <p className="lab py-1">{plural(data.more_files, 'more file')} in this folder; find narrows them.</p>
      )}
      {file && (
        <div className="mt-2 border-t border-line2 pt-1">
          <p className="flex items-baseline gap-4">
            <span className="strong text-sm">{file}</span>
            <Link
              className="link text-xs"
              to={`/${project}/lineage?of=${encodeURIComponent(`${artifact}@${version}:${file}`)}`}
            >
              lineage of this file
            </Link>
          </p>
          <Preview key={file} project={project} artifact={artifact} version={version} path={file} />
        </div>
      )}
    </div>
  )
}
