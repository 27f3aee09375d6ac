/** Asks before an act that others will notice: says what will happen and takes a comment for the journal. */
import { useState } from 'react'
import { Modal } from './Modal'
import { Comment } from './TextArea'

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
      <div className="mt-3">
        <Comment value={comment} onChange={setComment} />
      </div>
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
