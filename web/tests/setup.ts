/** What charts ask of a page: the colours of its theme. */
const COLOURS: Record<string, string> = { '--s1': '#112233', '--line2': '#dddddd', '--ink3': '#777777' }

Object.assign(globalThis, {
  document: { documentElement: {} },
  getComputedStyle: () => ({ getPropertyValue: (name: string) => ` ${COLOURS[name] ?? '#000000'} ` }),
})
