/** A selected thing owns a colour and a dash, wherever it appears; slot 0 is not selected. */
const DASHES: number[][] = [[], [7, 3], [2, 2.5], [8, 3, 2, 3]]

export const SLOTS = 32

export function look(slot: number): { colour: string; dash: number[] } {
  if (slot === 0) return { colour: 'var(--line2)', dash: [] }
  const at = slot - 1
  return { colour: `var(--s${(at % 8) + 1})`, dash: DASHES[(at + Math.floor(at / 8)) % 4] ?? [] }
}

/** Resolve a CSS variable for drawing on a canvas. */
export function resolved(colour: string): string {
  const name = /^var\((--[a-z0-9]+)\)$/.exec(colour)?.[1]
  return name ? getComputedStyle(document.documentElement).getPropertyValue(name).trim() : colour
}
