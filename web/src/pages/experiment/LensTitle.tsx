/** What the lens looks at: the curves of metrics, or what runs kept to be seen. */
import { useAddress } from '../../parts/selection'

export function LensTitle() {
  const { params, change } = useAddress()
  const kept = params.get('lens') === 'kept'
  return (
    <div className="flex items-baseline gap-2" role="group" aria-label="What the lens shows">
      {(
        [
          ['Curves', false],
          ['Results', true],
        ] as const
      ).map(([name, is]) => (
        <button
          key={name}
          aria-pressed={kept === is}
          className={`text-sm ${kept === is ? 'strong text-ink underline decoration-2 underline-offset-4' : 'text-ink2 hover:underline'}`}
          onClick={() => change('lens', is ? 'kept' : null)}
        >
          {name}
        </button>
      ))}
    </div>
  )
}
