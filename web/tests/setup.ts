/** What modules ask of a page: the colours of its theme, and where it is. */
const COLOURS: Record<string, string> = { '--s1': '#112233', '--line2': '#dddddd', '--ink3': '#777777' }

Object.assign(globalThis, {
  document: { documentElement: {}, querySelector: () => null },
  location: { pathname: '/', origin: 'http://127.0.0.1:7373' },
  getComputedStyle: () => ({ getPropertyValue: (name: string) => ` ${COLOURS[name] ?? '#000000'} ` }),
})
