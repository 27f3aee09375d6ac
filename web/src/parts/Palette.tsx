/** Opens and closes the palette; what it shows is loaded when it is first opened. */
import { lazy, Suspense, useEffect, useSyncExternalStore } from 'react'

const PaletteDialog = lazy(() => import('./PaletteDialog'))

let isOpen = false
const listeners = new Set<() => void>()
export function showPalette(open: boolean) {
  isOpen = open
  listeners.forEach((listener) => listener())
}
const useIsOpen = () =>
  useSyncExternalStore(
    (listener) => {
      listeners.add(listener)
      return () => listeners.delete(listener)
    },
    () => isOpen,
  )

export function Palette() {
  const open = useIsOpen()
  useEffect(() => {
    const keys = (event: KeyboardEvent) => {
      if (event.key.toLowerCase() === 'k' && (event.ctrlKey || event.metaKey)) {
        event.preventDefault()
        showPalette(!isOpen)
      }
    }
    window.addEventListener('keydown', keys)
    return () => window.removeEventListener('keydown', keys)
  }, [])
  if (!open) return null
  return (
    <Suspense>
      <PaletteDialog />
    </Suspense>
  )
}
