/** Asks before an act that others will notice: says what will happen and takes a comment for the journal. */
import { useState } from 'react'
import { Modal } from './Modal'

export function ActDialog(props: {
  title: string
  text: string
  act: string
  danger?: boolean
  pending: boolean
  error: Error | null
  onAct: (comment: string) => void
  onClose: () => void
}) {
  const [comment, setComment] = useState('')
  return (
    <Modal title={props.title} onClose={props.onClose}>
      <p className="text-sm text-ink2">{props.text}</p>
      <label className="mt-3 flex flex-col gap-1 text-xs text-ink2">
        Comment, kept in the journal
        <textarea
          className="field text-sm"
          rows={2}
          maxLength={4000}
          value={comment}
          onChange={(event) => setComment(event.target.value)}
        />
      </label>
      {props.error && (
        <p role="alert" className="mt-2 text-xs text-bad">
          {props.error.message}
        </p>
      )}
      <div className="mt-3 flex justify-end gap-2">
        <button className="btn" onClick={props.onClose}>
          Cancel
        </button>
        <button
          className={`btn ${props.danger ? 'btn-bad' : 'btn-p'}`}
          disabled={props.pending}
          onClick={() => props.onAct(comment)}
        >
          {props.act}
        </button>
      </div>
    </Modal>
  )
}
