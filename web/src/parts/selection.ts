/** The selection lives in the address: `sel=12~1,9~2` names runs by number with the slot of their look. */
import { useCallback, useMemo } from 'react'
import { useSearchParams } from 'react-router'
import { SLOTS } from './looks'

export type Selection = Map<string, number>

export function readSelection(text: string | null): Selection {
  const found: Selection = new Map()
  for (const part of (text ?? '').split(',')) {
    const [name, slot] = part.split('~')
    const number = Number(slot)
    if (name && Number.isInteger(number) && number > 0 && number <= SLOTS) found.set(name, number)
  }
  return found
}

export const writeSelection = (selection: Selection) =>
  [...selection].map(([name, slot]) => `${name}~${slot}`).join(',')

function freeSlot(selection: Selection): number {
  const taken = new Set(selection.values())
  for (let slot = 1; slot <= SLOTS; slot++) if (!taken.has(slot)) return slot
  return 0
}

/** Change one parameter of the address and leave the others. */
export function useAddress() {
  const [params, setParams] = useSearchParams()
  const change = useCallback(
    (name: string, value: string | null, replace = true) =>
      setParams(
        (before) => {
          const after = new URLSearchParams(before)
          if (value) after.set(name, value)
          else after.delete(name)
          return after
        },
        // At once: a box that is ticked must not fall back until a transition has come through.
        { replace, flushSync: true },
      ),
    [setParams],
  )
  const changeAll = useCallback(
    (values: Record<string, string | null>, replace = true) =>
      setParams(
        (before) => {
          const after = new URLSearchParams(before)
          for (const [name, value] of Object.entries(values)) {
            if (value) after.set(name, value)
            else after.delete(name)
          }
          return after
        },
        { replace, flushSync: true },
      ),
    [setParams],
  )
  return { params, change, changeAll }
}

export function useSelection() {
  const { params, change } = useAddress()
  const text = params.get('sel')
  const selection = useMemo(() => readSelection(text), [text])
  const toggle = useCallback(
    (name: string) => {
      const after = new Map(selection)
      if (!after.delete(name)) {
        const slot = freeSlot(after)
        if (slot) after.set(name, slot)
      }
      change('sel', writeSelection(after) || null)
    },
    [selection, change],
  )
  const clear = useCallback(() => change('sel', null), [change])
  return { selection, toggle, clear }
}
