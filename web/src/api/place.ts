/** Where the console is served: at the root of a host, or below a path that other tools share the host with. */
const below = document.querySelector<HTMLMetaElement>('meta[name=below]')?.content ?? ''
const { pathname, origin } = location

/** The path that the service is below, of a page's own path: "" where that page was asked for at the root. */
export const belowOf = (path: string, page: string) =>
  page === path || page.startsWith(`${path}/`) ? path : ''

/** The path before every path of the console and the interface: "" at the root, also of a service asked directly. */
export const BELOW = belowOf(below, pathname)

/** The address of the service, as people give it to programs. */
export const ADDRESS = origin + BELOW

/** Where the interface is. */
export const API = `${BELOW}/api/v1`
