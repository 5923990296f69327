import { parse, serialize } from 'cookie'

/** The cookies of sign-in: unreadable for pages, sent by no other site, and, where encrypted, of this host alone. */
export interface Cookies {
  /** The value of a cookie that a request carries. */
  read(request: Request, name: string): string | undefined
  /** The header that sets it. */
  write(name: string, value: string, seconds: number): string
  /** The header that takes it away. */
  clear(name: string): string
}

/** @param secure whether the site is reached by https */
export function cookiesFor(secure: boolean): Cookies {
  // A browser takes a cookie of that name from this host only, and by https only.
  const nameFor = (name: string) => `${secure ? '__Host-' : ''}${name}`
  const write = (name: string, value: string, maxAge: number) =>
    serialize(nameFor(name), value, { path: '/', httpOnly: true, sameSite: 'lax', secure, maxAge })
  return {
    read: ({ headers }, name) => parse(headers.get('cookie') ?? '')[nameFor(name)] || undefined,
    write,
    clear: (name) => write(name, '', 0),
  }
}
