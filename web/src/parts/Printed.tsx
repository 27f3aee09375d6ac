/** A printed line with its colours and styles; the colours are those of the theme, so that all can be read. */
import Anser, { type AnserJsonEntry } from 'anser'
import { Fragment, memo } from 'react'

const NAMES = new Set(['black', 'red', 'green', 'yellow', 'blue', 'magenta', 'cyan', 'white'])

function classOf(part: AnserJsonEntry): string {
  const found = []
  const name = /^ansi-(?:bright-)?(\w+)$/.exec(part.fg ?? '')?.[1]
  if (name && NAMES.has(name)) found.push(`printed-${name}`)
  else if (part.fg) found.push('printed-blue')
  if (part.bg) found.push('printed-marked')
  for (const style of part.decorations) found.push(`printed-${style}`)
  return found.join(' ')
}

/** Marks where a text was found. */
function Marked({ text, find }: { text: string; find: string }) {
  if (!find) return text
  const parts = []
  const lower = text.toLowerCase()
  let at = 0
  for (let hit = lower.indexOf(find); hit >= 0; hit = lower.indexOf(find, at)) {
    parts.push(
      <Fragment key={hit}>
        {text.slice(at, hit)}
        <mark className="bg-soft text-ink underline">{text.slice(hit, hit + find.length)}</mark>
      </Fragment>,
    )
    at = hit + find.length
  }
  return (
    <>
      {parts}
      {text.slice(at)}
    </>
  )
}

export const Printed = memo(function Printed({ text, find }: { text: string; find: string }) {
  if (!text.includes('\x1b')) return <Marked text={text} find={find} />
  const parts = Anser.ansiToJson(text, { use_classes: true, remove_empty: true })
  return (
    <>
      {parts.map((part, at) => (
        <span key={at} className={classOf(part)}>
          <Marked text={part.content} find={find} />
        </span>
      ))}
    </>
  )
})
