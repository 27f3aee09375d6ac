/** Labels as people write them: a line each, key=text. */
export const labelLines = (labels: Record<string, string>) =>
  Object.entries(labels)
    .map(([key, text]) => `${key}=${text}`)
    .join('\n')

/** The labels that lines say; those that stood there and are said no more are taken away. */
export function labelsOf(lines: string, before: Record<string, string>): Record<string, string | null> {
  const wanted: Record<string, string | null> = Object.fromEntries(
    Object.keys(before).map((key) => [key, null]),
  )
  for (const line of lines.split('\n')) {
    const [key, ...rest] = line.split('=')
    if (key?.trim()) wanted[key.trim()] = rest.join('=').trim()
  }
  return wanted
}
