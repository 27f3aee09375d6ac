/** Buttons of what may be asked for; one that the person may not press says why. */

export type AskedFor<A extends string> = { asked: A; text: string; act: string }

export function ActButtons<A extends string>(props: {
  buttons: AskedFor<A>[]
  whyNot: Record<string, string | null>
  onAsk: (asked: A) => void
}) {
  const { buttons, whyNot, onAsk } = props
  return (
    <span className="flex gap-1.5">
      {buttons.map(({ asked, text, act }) => (
        <button
          key={asked}
          className="btn leading-[18px]"
          disabled={!!whyNot[act]}
          title={whyNot[act] ?? undefined}
          onClick={() => onAsk(asked)}
        >
          {text}
        </button>
      ))}
    </span>
  )
}
