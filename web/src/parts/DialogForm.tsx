/** A dialog that asks for a few things and does one: the service's refusal stands above its buttons. */
import type { FormEvent, ReactNode } from 'react'
import { Modal } from './Modal'

export function DialogForm(props: {
  title: string
  act: string
  error: Error | null
  pending: boolean
  onSubmit: () => void
  onClose: () => void
  children: ReactNode
  wide?: boolean
}) {
  const submit = (event: FormEvent) => {
    event.preventDefault()
    props.onSubmit()
  }
  return (
    <Modal title={props.title} onClose={props.onClose} wide={props.wide}>
      <form onSubmit={submit} className="flex flex-col gap-3">
        {props.children}
        {props.error && (
          <p role="alert" className="text-xs text-bad">
            {props.error.message}
          </p>
        )}
        <div className="flex justify-end gap-2">
          <button type="button" className="btn" onClick={props.onClose}>
            Cancel
          </button>
          <button className="btn btn-p" disabled={props.pending}>
            {props.act}
          </button>
        </div>
      </form>
    </Modal>
  )
}
