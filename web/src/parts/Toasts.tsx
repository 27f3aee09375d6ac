/** Short messages about what was done, with a way back where there is one, or a way on. */
import { useSyncExternalStore } from 'react'

type Toast = { id: number; text: string; act?: () => void; label: string }

let toasts: Toast[] = []
let last = 0
const listeners = new Set<() => void>()
const STAY_MS = 12_000

function set(after: Toast[]) {
  toasts = after
  listeners.forEach((listener) => listener())
}

const drop = (id: number) => set(toasts.filter((toast) => toast.id !== id))

export function toast(text: string, act?: () => void, label = 'Undo') {
  const id = ++last
  set([...toasts.slice(-2), { id, text, act, label }])
  setTimeout(() => drop(id), STAY_MS)
}

export function Toasts() {
  const shown = useSyncExternalStore(
    (listener) => {
      listeners.add(listener)
      return () => listeners.delete(listener)
    },
    () => toasts,
  )
  return (
    <div role="status" aria-live="polite" className="fixed bottom-4 left-6 z-40 flex flex-col gap-2">
      {shown.map(({ id, text, act, label }) => (
        <p
          key={id}
          className="flex items-center gap-4 rounded-[3px] border border-line2 bg-surface px-3 py-1.5 text-sm shadow-md"
        >
          {text}
          {act && (
            <button
              className="btn"
              onClick={() => {
                drop(id)
                act()
              }}
            >
              {label}
            </button>
          )}
          <button className="btn" aria-label="Close this message" onClick={() => drop(id)}>
            ×
          </button>
        </p>
      ))}
    </div>
  )
}
