/** A gate asked for in the form, written into the TOML of all gates. */

export type Asked =
  | { kind: 'bound'; value: string; on: string; at_least: string; at_most: string; fingerprint?: string }
  | { kind: 'better'; value: string; on: string; by: string; confidence: string; fingerprint?: string }
  | { kind: 'evidence'; on: string; within: string; fingerprint?: string }
  | { kind: 'approvals'; count: string }
  | { kind: 'card'; sections: string }
  | { kind: 'signature'; asks: string }
  | { kind: 'recorded'; what: string[] }

const text = (value: string) => JSON.stringify(value)
const listed = (values: string[]) => `[${values.map(text).join(', ')}]`

function rowsOf(asked: Asked): string[] {
  const some = (name: string, value: string, quoted = false) =>
    value.trim() ? [`${name} = ${quoted ? text(value.trim()) : value.trim()}`] : []
  // What is asked for unless it is said otherwise is not written.
  const print = (value?: string) => (value?.trim() === 'any' ? some('fingerprint', 'any', true) : [])
  switch (asked.kind) {
    case 'bound':
      return [
        ...some('value', asked.value, true),
        ...some('on', asked.on, true),
        ...some('at_least', asked.at_least),
        ...some('at_most', asked.at_most),
        ...print(asked.fingerprint),
      ]
    case 'better':
      return [
        ...some('value', asked.value, true),
        ...some('on', asked.on, true),
        ...some('by', asked.by),
        ...some('confidence', asked.confidence),
        ...print(asked.fingerprint),
      ]
    case 'evidence':
      return [
        ...some('on', asked.on, true),
        ...some('within', asked.within, true),
        ...print(asked.fingerprint),
      ]
    case 'approvals':
      return [`approvals = ${asked.count || 1}`]
    case 'card':
      return [`card = ${listed(asked.sections.split(',').map((one) => one.trim()).filter(Boolean))}`] // prettier-ignore
    case 'signature':
      return [`signature = ${text(asked.asks)}`]
    case 'recorded':
      return [`recorded = ${listed(asked.what)}`]
  }
}

/** The gates with one more: a table of its own, or a line under the stage's head, over the line that was there. */
export function withGate(gates: string, stage: string, asked: Asked): string {
  const rows = rowsOf(asked)
  const before = gates.trimEnd()
  if (asked.kind === 'bound' || asked.kind === 'better' || asked.kind === 'evidence')
    return `${before}${before ? '\n\n' : ''}[[${stage}.${asked.kind}]]\n${rows.join('\n')}\n`
  const lines = before.split('\n')
  const head = lines.findIndex((line) => line.trim() === `[${stage}]`)
  if (head < 0) return `${before}${before ? '\n\n' : ''}[${stage}]\n${rows[0]}\n`
  const next = lines.findIndex((line, at) => at > head && line.trim().startsWith('['))
  const end = next < 0 ? lines.length : next
  const same = lines.findIndex(
    (line, at) => at > head && at < end && line.trim().startsWith(`${asked.kind} `),
  )
  if (same >= 0) lines[same] = rows[0] ?? ''
  else lines.splice(head + 1, 0, rows[0] ?? '')
  return `${lines.join('\n')}\n`
}
