/** A text of several lines under its label. */
import type { ReactNode } from 'react'

export function TextArea(props: {
  label: ReactNode
  value: string
  onChange: (text: string) => void
  rows: number
  limit?: number
  /** Code, labels and the like: letters of one width, nothing marked as misspelt. */
  plain?: boolean
  required?: boolean
  disabled?: boolean
}) {
  const { label, value, onChange, rows, limit, plain, required, disabled } = props
  return (
    <label className="flex flex-col gap-1 text-xs text-ink2">
      {label}
      <textarea
        className={`field ${plain ? 'mono text-xs' : 'text-sm'}`}
        rows={rows}
        maxLength={limit}
        spellCheck={!plain}
        required={required}
        disabled={disabled}
        value={value}
        onChange={(event) => onChange(event.target.value)}
      />
    </label>
  )
}

/** What is said beside an act. */
export function Comment(props: {
  value: string
  onChange: (text: string) => void
  rows?: number
  disabled?: boolean
}) {
  return <TextArea label="Comment, kept in the journal" rows={2} limit={4_000} {...props} />
}
