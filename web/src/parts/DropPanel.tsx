/** A button that opens a panel below it; Escape and a click elsewhere close it. */
import { useEffect, useId, useRef, useState, type ReactNode } from 'react'

export function DropPanel({
  button,
  name,
  children,
}: {
  button: ReactNode
  name: string
  children: ReactNode
}) {
  const [open, setOpen] = useState(false)
  const whole = useRef<HTMLDivElement>(null)
  const opener = useRef<HTMLButtonElement>(null)
  const id = useId()
  useEffect(() => {
    if (!open) return
    const elsewhere = (event: PointerEvent) => {
      if (!whole.current?.contains(event.target as Node)) setOpen(false)
    }
    const keys = (event: KeyboardEvent) => {
      if (event.key !== 'Escape') return
      setOpen(false)
      opener.current?.focus()
    }
    document.addEventListener('pointerdown', elsewhere)
    document.addEventListener('keydown', keys)
    return () => {
      document.removeEventListener('pointerdown', elsewhere)
      document.removeEventListener('keydown', keys)
    }
  }, [open])
  return (
    <div ref={whole} className="relative">
      <button
        ref={opener}
        className="btn h-7"
        aria-expanded={open}
        aria-controls={id}
        onClick={() => setOpen(!open)}
      >
        {button}
      </button>
      <div
        id={id}
        role="group"
        aria-label={name}
        hidden={!open}
        className="absolute top-full right-0 z-20 mt-1 w-[340px] rounded-[3px] border border-line2 bg-surface text-xs shadow-md"
      >
        {open && children}
      </div>
    </div>
  )
}
