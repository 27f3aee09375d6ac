/** Light or dark: the person's choice, else the system's. */
import { useSyncExternalStore } from 'react'

export type Theme = 'light' | 'dark'
const system = window.matchMedia('(prefers-color-scheme: dark)')
const listeners = new Set<() => void>()

function chosen(): Theme | null {
  const found = localStorage.getItem('theme')
  return found === 'light' || found === 'dark' ? found : null
}

const current = (): Theme => chosen() ?? (system.matches ? 'dark' : 'light')

export function applyTheme() {
  document.documentElement.dataset.theme = current()
  listeners.forEach((tell) => tell())
}

export function chooseTheme(theme: Theme) {
  localStorage.setItem('theme', theme)
  applyTheme()
}

/** Light or dark as the system is, whatever was chosen before. */
export function followSystem() {
  localStorage.removeItem('theme')
  applyTheme()
}

/** What the account says, where nothing was chosen in this browser. */
export function suggestTheme(theme: string) {
  if (chosen() === null && (theme === 'light' || theme === 'dark')) chooseTheme(theme)
}

system.addEventListener('change', applyTheme)

export const useTheme = () =>
  useSyncExternalStore((tell) => {
    listeners.add(tell)
    return () => listeners.delete(tell)
  }, current)
