/** Notes on whatever has them: read, added, removed. */
import { lazy, Suspense, useState } from 'react'
import { useNotes, useRemoveNote } from '../api/acts'
import { NoteDialog } from './DescribeDialogs'
import { Section } from './Marks'
import { Modal } from './Modal'
import { fullMoment, moment } from './values'

const Markdown = lazy(() => import('./Markdown'))

/** `of` is a reference: a run, NAME@VERSION, or project:, experiment:, artifact:, model: and a name. */
type Props = { project: string; of: string; may: boolean; whyNot?: string | null }

export function Notes({ className, ...props }: Props & { className?: string }) {
  const [writing, setWriting] = useState(false)
  return (
    <Section
      className={className}
      title="Notes"
      fact={
        (props.may || props.whyNot) && (
          <button
            className="btn leading-[18px]"
            disabled={!props.may}
            title={props.whyNot ?? undefined}
            onClick={() => setWriting(true)}
          >
            Add a note
          </button>
        )
      }
    >
      <List {...props} />
      {writing && (
        <NoteDialog project={props.project} things={[props.of]} onClose={() => setWriting(false)} />
      )}
    </Section>
  )
}

/** Where a page has no room for them: the notes in a dialog. */
export function NotesDialog({ onClose, ...props }: Props & { onClose: () => void }) {
  const [writing, setWriting] = useState(false)
  if (writing) {
    return <NoteDialog project={props.project} things={[props.of]} onClose={() => setWriting(false)} />
  }
  return (
    <Modal title={`Notes on ${props.of.replace(':', ' ')}`} onClose={onClose}>
      <List {...props} />
      <div className="mt-3 flex justify-end gap-2">
        <button className="btn" onClick={onClose}>
          Close
        </button>
        {props.may && (
          <button className="btn btn-p" onClick={() => setWriting(true)}>
            Add a note
          </button>
        )}
      </div>
    </Modal>
  )
}

function List({ project, of }: Props) {
  const { data, error } = useNotes(project, of)
  const remove = useRemoveNote(project, of)
  if (error) return <p className="lab text-bad">{error.message}</p>
  if (data?.length === 0) return <p className="lab">Nobody has noted anything yet.</p>
  return (
    <>
      {data?.map((note) => (
        <article key={note.id} className="border-b border-line py-1.5" aria-label={`Note of ${note.author}`}>
          <p className="lab flex gap-2" title={fullMoment(note.written_at)}>
            <span className="grow">
              {note.author}, {moment(note.written_at)}
              {note.imported_from && ` · imported from ${note.imported_from}`}
            </span>
            {note.may_remove && (
              <button className="link" disabled={remove.isPending} onClick={() => remove.mutate(note.id)}>
                remove
              </button>
            )}
          </p>
          <Suspense fallback={<p className="text-sm whitespace-pre-wrap">{note.text}</p>}>
            <Markdown text={note.text} />
          </Suspense>
        </article>
      ))}
    </>
  )
}
