/** A place where files and folders are dropped, or chosen by a button. */
import { useRef, useState } from 'react'
import type { Chosen } from '../../api/data'

export function DropPlace({ take }: { take: (files: Chosen[]) => void }) {
  const [over, setOver] = useState(false)
  const files = useRef<HTMLInputElement>(null)
  const folder = useRef<HTMLInputElement>(null)
  const chosen = (list: FileList | null) => {
    if (!list?.length) return
    take(
      [...list].map((file) => ({
        path: file.webkitRelativePath.split('/').slice(1).join('/') || file.name,
        file,
      })),
    )
  }
  return (
    <section
      aria-label="Keep files"
      className={`mt-5 flex h-20 items-center justify-center gap-3 rounded-[3px] border border-dashed text-xs text-ink2 ${over ? 'border-accent bg-soft' : 'border-line2'}`}
      onDragOver={(event) => {
        event.preventDefault()
        setOver(true)
      }}
      onDragLeave={() => setOver(false)}
      onDrop={(event) => {
        event.preventDefault()
        setOver(false)
        void dropped(event.dataTransfer).then((found) => found.length && take(found))
      }}
    >
      Drop files or a folder here to keep them as a version, or
      <button className="btn" onClick={() => files.current?.click()}>
        Choose files
      </button>
      <button className="btn" onClick={() => folder.current?.click()}>
        Choose a folder
      </button>
      <input
        ref={files}
        type="file"
        multiple
        hidden
        aria-label="Files to keep"
        onChange={(event) => chosen(event.target.files)}
      />
      <input
        ref={folder}
        type="file"
        hidden
        aria-label="Folder to keep"
        {...{ webkitdirectory: '' }}
        onChange={(event) => chosen(event.target.files)}
      />
    </section>
  )
}

/** What was dropped, folders walked through; the top folder's own name is not part of the paths. */
async function dropped(transfer: DataTransfer): Promise<Chosen[]> {
  const entries = [...transfer.items].map((item) => item.webkitGetAsEntry()).filter((entry) => entry !== null)
  if (entries.length === 0) return [...transfer.files].map((file) => ({ path: file.name, file }))
  const alone = entries.length === 1
  const found = await Promise.all(
    entries.map((entry) => walk(entry, alone && entry.isDirectory ? '' : entry.name)),
  )
  return found.flat()
}

async function walk(entry: FileSystemEntry, path: string): Promise<Chosen[]> {
  if (entry.isFile) {
    const file = await new Promise<File>((done, fail) => (entry as FileSystemFileEntry).file(done, fail))
    return [{ path: path || file.name, file }]
  }
  const reader = (entry as FileSystemDirectoryEntry).createReader()
  const inside: FileSystemEntry[] = []
  // A reader gives a hundred at a time, and none at the end.
  for (;;) {
    const some = await new Promise<FileSystemEntry[]>((done, fail) => reader.readEntries(done, fail))
    if (some.length === 0) break
    inside.push(...some)
  }
  const found = await Promise.all(
    inside.map((child) => walk(child, path ? `${path}/${child.name}` : child.name)),
  )
  return found.flat()
}
