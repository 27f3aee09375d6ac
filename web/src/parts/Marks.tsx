/** Small marks with one meaning each: key, status, review, section title. */
import { useEffect, useRef, useState, type ReactNode } from 'react'
import { look } from './looks'

export function Key({ slot, width = 18 }: { slot: number; width?: number }) {
  const { colour, dash } = look(slot)
  return (
    <svg width={width} height={8} className="inline-block shrink-0 align-middle" aria-hidden>
      <line
        x1="0"
        x2={width}
        y1="4"
        y2="4"
        strokeWidth="2.5"
        stroke={colour}
        strokeDasharray={dash.join(' ')}
      />
    </svg>
  )
}

const STATUS: Record<string, [string, string]> = {
  finished: ['M2 6.5 5 9.5 10.5 3', 'text-ink3'],
  failed: ['M3 3 9 9M9 3 3 9', 'text-bad'],
  running: ['M2 6H10M7 3 10 6 7 9', 'text-accent'],
  stopped: ['M3.5 3V9M8.5 3V9', 'text-ink2'],
  lost: ['M2 6h1.5M5.3 6h1.5M8.5 6H10', 'text-bad'],
}

export function Status({ status, text }: { status: string; text?: string }) {
  const [path, tone] = STATUS[status] ?? ['', 'text-ink2']
  return (
    <span className={`inline-flex items-baseline gap-1.5 whitespace-nowrap ${tone}`} title={status}>
      <svg
        width="12"
        height="12"
        fill="none"
        stroke="currentColor"
        strokeWidth="1.5"
        className="self-center"
        aria-hidden
      >
        <path d={path} />
      </svg>
      {text ? (
        <>
          <span className="sr-only">{status}, </span>
          {text}
        </>
      ) : (
        status
      )}
    </span>
  )
}

const REVIEW: Record<string, [string, string]> = {
  pending: ['○', 'text-accent'],
  approved: ['●', 'text-ink2'],
  rejected: ['⊘', 'text-bad'],
}

export function Review({ review }: { review: string }) {
  const [mark, tone] = REVIEW[review] ?? ['', '']
  return (
    <span className={`whitespace-nowrap ${tone}`}>
      <span className="mr-1.5 inline-block w-3 text-center" aria-hidden>
        {mark}
      </span>
      {review}
    </span>
  )
}

export function Section({
  title,
  fact,
  children,
  className = '',
}: {
  title: ReactNode
  fact?: ReactNode
  children?: ReactNode
  className?: string
}) {
  return (
    <section className={className}>
      <div className="mb-1 flex items-baseline justify-between gap-3 border-b border-line2 pb-[3px]">
        <h2 className="strong text-sm">{title}</h2>
        <span className="lab whitespace-nowrap">{fact}</span>
      </div>
      {children}
    </section>
  )
}

/** Text that is underlined for two seconds when it changes. */
export function Changing({ children }: { children: string }) {
  const before = useRef(children)
  const [count, setCount] = useState(0)
  useEffect(() => {
    if (before.current !== children) {
      before.current = children
      setCount((at) => at + 1)
    }
  }, [children])
  return (
    <span key={count} className={count ? 'changed' : ''}>
      {children}
    </span>
  )
}

/** Long text that may be copied whole. */
export function Fact({ term, children }: { term: string; children: ReactNode }) {
  return (
    <div className="flex gap-3 border-b border-line py-[3px]">
      <dt className="w-[84px] shrink-0 text-ink3">{term}</dt>
      <dd className="min-w-0 break-words">{children}</dd>
    </div>
  )
}
