/** One line that is typed, under its label. */
export function Field(props: {
  label: string
  value: string
  onChange: (text: string) => void
  type?: 'text' | 'password' | 'number' | 'email'
  autoComplete?: string
  required?: boolean
  min?: number
  step?: number | 'any'
  hint?: string
  placeholder?: string
}) {
  const {
    label,
    value,
    onChange,
    type = 'text',
    autoComplete = 'off',
    required,
    min,
    step,
    hint,
    placeholder,
  } = props
  return (
    <label className="flex flex-col gap-1 text-xs text-ink2">
      {label}
      <input
        className="field h-7 text-sm"
        type={type}
        autoComplete={autoComplete}
        required={required}
        min={min}
        step={step}
        spellCheck={false}
        placeholder={placeholder}
        value={value}
        onChange={(event) => onChange(event.target.value)}
      />
      {hint && <span className="text-ink3">{hint}</span>}
    </label>
  )
}

export function Choice(props: {
  label: string
  value: string
  onChange: (value: string) => void
  options: readonly (readonly [string, string])[]
}) {
  return (
    <label className="flex flex-col gap-1 text-xs text-ink2">
      {props.label}
      <select
        className="field h-7 py-0 text-sm"
        value={props.value}
        onChange={(event) => props.onChange(event.target.value)}
      >
        {props.options.map(([value, text]) => (
          <option key={value} value={value}>
            {text}
          </option>
        ))}
      </select>
    </label>
  )
}

/** What went wrong with the last act, where it did. */
export function Refusal({ error }: { error: Error | null }) {
  if (!error) return null
  return (
    <p role="alert" className="text-xs text-bad">
      {error.message}
    </p>
  )
}
