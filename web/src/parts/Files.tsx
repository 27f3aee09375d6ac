/** The files of a version, folder by folder, with a look into the one that is chosen. */
import { Link } from 'react-router'
import { bundleAddress, useListing } from '../api/data'
import { Preview } from './Preview'
import { bytes, fullMoment, plural } from './values'

export type Place = { folder: string; file: string | null; find: string }

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
        <table className="w-full text-xs" aria-label="Files">
          <thead className="sr-only">
            <tr>
              <th scope="col">Path</th>
              <th scope="col">Last change</th>
              <th scope="col">Content</th>
              <th scope="col">Size</th>
            </tr>
          </thead>
          <tbody>
            {data?.folders.map((found) => (
              <tr key={found.name} className="h-7 border-b border-line">
                <th scope="row" className="mono">
                  <button
                    className="hover:underline"
                    onClick={() => into(folder ? `${folder}/${found.name}` : found.name)}
                  >
                    {found.name}/
                  </button>
                </th>
                <td className="text-ink3">{plural(found.files, 'file')}</td>
                <td />
                <td className="text-right text-ink2">{bytes(found.size_bytes)}</td>
              </tr>
            ))}
            {data?.files.map((entry) => (
              <tr
                key={entry.path}
                className={`h-7 border-b border-line ${entry.path === file ? 'bg-soft' : ''}`}
              >
                <th scope="row" className="mono">
                  <button
                    className="hover:underline"
                    aria-pressed={entry.path === file}
                    onClick={() => go({ folder, file: entry.path === file ? null : entry.path, find })}
                  >
                    {find ? entry.path : entry.path.slice(folder ? folder.length + 1 : 0)}
                  </button>
                </th>
                <td className="text-ink3" title={entry.address ?? undefined}>
                  {entry.modified ? fullMoment(new Date(entry.modified / 1000).toISOString()) : ''}
                </td>
                <td className="mono text-ink3">{entry.sha256.slice(0, 8)}</td>
                <td className="text-right text-ink2">{bytes(entry.size)}</td>
              </tr>
            ))}
          </tbody>
        </table>
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
