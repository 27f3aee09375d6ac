/** The search bar: a query with what may stand at the cursor, where it is wrong, and how names were understood. */
import { useEffect, useId, useRef, useState, type KeyboardEvent } from 'react'
import { ServiceError } from '../../api/client'
import { useOffers, type Offer } from '../../api/finding'

type Props = {
  project: string
  experiment: string
  query: string
  counted: string
  error: unknown
  remarks: string[]
  onAsk: (query: string) => void
}

const DELAY_MS = 120
/** What ends a word of a query. */
const ENDS_WORD = /[\s()[\]{},=!<>"']/
/** Behind these nothing is written with a space. */
const OPENS = /[(:]$/

export function Search({ project, experiment, query, counted, error, remarks, onAsk }: Props) {
  const [text, setText] = useState(query)
  const [cursor, setCursor] = useState(query.length)
  const [open, setOpen] = useState(false)
  const [at, setAt] = useState(-1)
  const field = useRef<HTMLInputElement>(null)
  const list = useId()
  const asked = useDelayed(text.slice(0, cursor))
  const { data, isPlaceholderData } = useOffers(project, experiment, asked, open)
  const written = text.slice(0, cursor)
  // Offers for an earlier text complete the word that is being written, and nothing behind it.
  const isUpToDate = !isPlaceholderData && asked === written
  const fits =
    data !== undefined && data.at <= cursor && (isUpToDate || !ENDS_WORD.test(written.slice(data.at)))
  const fresh = open && fits ? data : undefined
  const offers = fresh?.offers ?? []
  const chosen = Math.min(at, offers.length - 1)

  const write = (value: string, where: number) => {
    setText(value)
    setCursor(where)
    setAt(-1)
    requestAnimationFrame(() => field.current?.setSelectionRange(where, where))
  }
  const take = (offer: Offer) => {
    const end = text.slice(cursor).match(/^[^\s()[\]{},=!<>"']*/)?.[0].length ?? 0
    const space = OPENS.test(offer.text) ? '' : ' '
    const head = text.slice(0, fresh?.at ?? cursor) + offer.text + space
    write(head + text.slice(cursor + end).replace(/^ /, ''), head.length)
    setOpen(true)
  }
  const ask = () => {
    setOpen(false)
    onAsk(text.trim())
  }
  const keys = (event: KeyboardEvent) => {
    if (event.key === 'ArrowDown' || event.key === 'ArrowUp') {
      setOpen(true)
      const step = event.key === 'ArrowDown' ? 1 : -1
      setAt(offers.length ? (chosen + step + offers.length) % offers.length : -1)
    } else if (event.key === 'Escape') {
      if (!open) return
      setOpen(false)
    } else if ((event.key === 'Enter' || event.key === 'Tab') && open && offers[chosen]) take(offers[chosen])
    else if (event.key === 'Enter') ask()
    else return
    event.preventDefault()
  }
  return (
    <div role="search" className="min-w-0 flex-1">
      <div className="relative">
        <input
          ref={field}
          role="combobox"
          aria-label="Which runs"
          aria-expanded={open && offers.length > 0}
          aria-controls={list}
          aria-autocomplete="list"
          aria-activedescendant={open && chosen >= 0 ? `${list}-${chosen}` : undefined}
          aria-invalid={!!error}
          className="field mono h-7 w-full pr-28"
          placeholder="recall >= 0.9 and learner in {boost, forest} and started within 7d"
          value={text}
          spellCheck={false}
          autoComplete="off"
          onChange={(event) => {
            setText(event.target.value)
            setCursor(event.target.selectionStart ?? event.target.value.length)
            setAt(-1)
            setOpen(true)
          }}
          onSelect={(event) => setCursor(event.currentTarget.selectionStart ?? 0)}
          onFocus={() => setOpen(true)}
          onClick={() => setOpen(true)}
          onBlur={() => setOpen(false)}
          onKeyDown={keys}
        />
        <span className="pointer-events-none absolute top-1 right-2 bg-surface pl-2 text-xs text-ink3">
          {error ? '' : counted}
        </span>
        <Offers id={list} open={open} offers={offers} chosen={chosen} onTake={take} />
      </div>
      <Told error={error} text={text} remarks={remarks} />
    </div>
  )
}

function Offers(props: {
  id: string
  open: boolean
  offers: Offer[]
  chosen: number
  onTake: (offer: Offer) => void
}) {
  const { id, open, offers, chosen, onTake } = props
  return (
    <ul
      id={id}
      role="listbox"
      aria-label="What may stand here"
      hidden={!open || offers.length === 0}
      className="absolute left-0 z-20 mt-1 max-h-[300px] w-[440px] overflow-auto rounded-[3px] border border-line2 bg-surface py-1 text-xs shadow-md"
    >
      {offers.map((offer, index) => (
        <li
          key={`${offer.what}:${offer.text}`}
          id={`${id}-${index}`}
          role="option"
          aria-selected={index === chosen}
          className={`flex cursor-pointer items-baseline gap-3 px-3 py-[3px] ${index === chosen ? 'bg-soft' : 'hover:bg-bg'}`}
          onPointerDown={(event) => {
            event.preventDefault()
            onTake(offer)
          }}
        >
          <span className="mono truncate">{offer.text}</span>
          <span className="ml-auto whitespace-nowrap text-2xs text-ink3">{offer.about}</span>
        </li>
      ))}
    </ul>
  )
}

/** What is wrong and where, else how names were understood. */
function Told({ error, text, remarks }: { error: unknown; text: string; remarks: string[] }) {
  if (!error) {
    return remarks.map((remark) => (
      <p key={remark} className="pt-0.5 text-xs text-ink2">
        {remark}
      </p>
    ))
  }
  const column = error instanceof ServiceError ? error.column : null
  return (
    <div role="alert" className="pt-0.5 text-xs text-bad">
      {column !== null && column > 0 && column <= text.length + 1 && (
        <pre className="mono h-3 overflow-hidden pl-[9px] leading-3" aria-hidden>
          {' '.repeat(column - 1)}▲
        </pre>
      )}
      {error instanceof Error ? error.message : String(error)}
    </div>
  )
}

function useDelayed(text: string): string {
  const [late, setLate] = useState(text)
  useEffect(() => {
    const timer = setTimeout(() => setLate(text), DELAY_MS)
    return () => clearTimeout(timer)
  }, [text])
  return late
}
