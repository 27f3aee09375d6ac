/** What can be done on the page that is open, for the palette; each with other words that people may type. */
import { useEffect, useSyncExternalStore } from 'react'

export type Action = { name: string; words?: string; act: () => void; off?: boolean }

let offered: Record<string, Action[]> = {}
const listeners = new Set<() => void>()

function set(after: Record<string, Action[]>) {
  offered = after
  listeners.forEach((listener) => listener())
}

/** Offer actions while a page is open. */
export function useActions(page: string, actions: Action[]) {
  useEffect(() => {
    set({ ...offered, [page]: actions })
    return () => {
      set(Object.fromEntries(Object.entries(offered).filter(([name]) => name !== page)))
    }
  })
}

export const useOffered = (): Action[] => {
  const all = useSyncExternalStore(
    (listener) => {
      listeners.add(listener)
      return () => listeners.delete(listener)
    },
    () => offered,
  )
  return Object.values(all).flat()
}
