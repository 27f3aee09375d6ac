/**
 * The selection lives in the address: `sel=12~1,9~2,40~0` names runs by number with the slot of their look. When all
 * looks are given out, what is selected further has none of its own (slot 0).
 */
import { useCallback, useMemo } from 'react'
import { useSearchParams } from 'react-router'
import { SLOTS } from './looks'

export type Selection = Map<string, number>

/** An address has an end; more than this are not selected at once. */
export const SELECTED_LIMIT = 500

export function readSelection(text: string | null): Selection {
  const found: Selection = new Map()
  for (const part of (text ?? '').split(',')) {
    const [name, slot] = part.split('~')
    const number = Number(slot)
    if (name && slot && Number.isInteger(number) && number >= 0 && number <= SLOTS) found.set(name, number)
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
      if (!after.delete(name) && after.size < SELECTED_LIMIT) after.set(name, freeSlot(after))
      change('sel', writeSelection(after) || null)
    },
    [selection, change],
  )
  /** Select these as well; those that were selected keep their looks. */
  const select = useCallback(
    (names: string[]) => {
      const after = new Map(selection)
      for (const name of names) {
        if (after.size >= SELECTED_LIMIT) break
        if (!after.has(name)) after.set(name, freeSlot(after))
      }
      change('sel', writeSelection(after) || null)
    },
    [selection, change],
  )
  const clear = useCallback(() => change('sel', null), [change])
  return { selection, toggle, select, clear }
}
