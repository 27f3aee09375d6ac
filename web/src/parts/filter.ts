/** A filter of names as people type it: a glob (`val/*`, `*loss*`), or a regular expression between slashes. */

export type Matcher = { fits: (name: string) => boolean; error: string | null }

const everything: Matcher = { fits: () => true, error: null }

export function matcher(text: string): Matcher {
  const asked = text.trim()
  if (!asked) return everything
  try {
    if (asked.startsWith('/')) {
      const pattern = new RegExp(asked.slice(1).replace(/\/$/, ''), 'u')
      return { fits: (name) => pattern.test(name), error: null }
    }
    const glob = asked
      .split('*')
      .map((part) => part.replace(/[.+^${}()|[\]\\]/g, '\\$&').replace(/\?/g, '.'))
      .join('.*')
    const pattern = new RegExp(`^${glob}$`, 'u')
    return { fits: (name) => pattern.test(name), error: null }
  } catch (error) {
    // Half-typed expressions hide nothing.
    return { fits: () => true, error: error instanceof Error ? error.message : String(error) }
  }
}
