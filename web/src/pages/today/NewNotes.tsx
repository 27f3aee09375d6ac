/** What others noted since the last visit. */
import { Link } from 'react-router'
import type { Schemas } from '../../api/client'
import { Section } from '../../parts/Marks'

type Note = Schemas['Today']['notes'][number]

/** The page of what a note stands on. */
function placeOf({ project, kind, reference }: Note): string {
  const [name = '', version] = reference.replace(/^.*:/, '').split('@')
  if (kind === 'project') return `/${project}`
  if (kind === 'artifact') return `/${project}/data/${name}${version ? `?version=${version}` : ''}`
  if (kind === 'model') return `/${project}/models/${name}${version ? `/${version}` : ''}`
  return `/${project}/e/${name}`
}

export function NewNotes({ notes }: { notes: Note[] }) {
  if (notes.length === 0) return null
  return (
    <Section title="Notes" fact={`${notes.length} new`}>
      {notes.slice(0, 8).map((note) => (
        <div key={`${note.reference} ${note.written_at}`} className="border-b border-line py-1 text-xs">
          <Link className="strong hover:underline" to={placeOf(note)}>
            {note.reference.replace(':', ' ')}
          </Link>{' '}
          <span className="text-ink2">{note.author}</span>
          <p className="line-clamp-2">{note.text}</p>
        </div>
      ))}
    </Section>
  )
}
