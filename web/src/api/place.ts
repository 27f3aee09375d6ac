/** Where the console is served: at the root of a host, or below a path that other tools share the host with. */
const below = document.querySelector<HTMLMetaElement>('meta[name=below]')?.content ?? ''
const { pathname, origin } = window.location

/** The path before every path of the console and the interface: "" at the root, also of a service asked directly. */
export const BELOW = pathname === below || pathname.startsWith(`${below}/`) ? below : ''

/** The address of the service, as people give it to programs. */
export const ADDRESS = origin + BELOW

/** Where the interface is. */
export const API = `${BELOW}/api/v1`
