/** What the lens looks at: curves of metrics, the runs themselves in one of several ways, or what they kept to be seen. */
import { useAddress } from '../../parts/selection'

export const LENSES = {
  '': 'Curves',
  scatter: 'Scatter',
  spread: 'Spread',
  over: 'Over runs',
  parallel: 'Parallel',
  effects: 'Effects',
  kept: 'Results',
} as const
export type LensKind = keyof typeof LENSES

export const lensOf = (params: URLSearchParams): LensKind => {
  const asked = params.get('lens') ?? ''
  return asked in LENSES ? (asked as LensKind) : ''
}

export function LensTitle() {
  const { params, change } = useAddress()
  const shown = lensOf(params)
  return (
    <div
      className="flex items-baseline gap-2.5 whitespace-nowrap"
      role="group"
      aria-label="What the lens shows"
    >
      {Object.entries(LENSES).map(([kind, name]) => (
        <button
          key={kind}
          aria-pressed={shown === kind}
          className={`text-sm ${shown === kind ? 'strong text-ink underline decoration-2 underline-offset-4' : 'text-ink2 hover:underline'}`}
          onClick={() => change('lens', kind || null)}
        >
          {name}
        </button>
      ))}
    </div>
  )
}
