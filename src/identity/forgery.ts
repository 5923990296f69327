import { ForgeryError } from './errors.js'

const SAFE = ['GET', 'HEAD', 'OPTIONS']

/** Whether a request only reads, by its method. */
export const isSafe = ({ method }: Request): boolean => SAFE.includes(method)

/**
 * Refuses a write that a browser sends for a page of another site. Browsers say where a request comes from, and pages cannot
 * make them say otherwise; a request without either header comes from no browser.
 *
 * @throws {ForgeryError}
 * @see https://www.w3.org/TR/fetch-metadata/ for `Sec-Fetch-Site`, https://www.rfc-editor.org/rfc/rfc6454 for `Origin`
 */
export function assertFromHere(request: Request): void {
  if (isSafe(request)) return
  const site = request.headers.get('sec-fetch-site')
  if (site !== null) {
    if (site === 'same-origin' || site === 'none') return
    throw new ForgeryError(`Sec-Fetch-Site is ${site}`)
  }
  const origin = request.headers.get('origin')
  if (origin === null) return
  const host = request.headers.get('host') ?? new URL(request.url).host
  if (!URL.canParse(origin) || new URL(origin).host !== host) throw new ForgeryError(`Origin is ${origin}, not ${host}`)
}

/** The header that carries the token of a session. */
export const TOKEN_HEADER = 'x-csrf-token'

/**
 * Refuses a write that does not carry the token of its session, which pages of other sites cannot read.
 *
 * @throws {ForgeryError}
 */
export function assertToken(request: Request, token: string | undefined): void {
  if (isSafe(request)) return
  const given = request.headers.get(TOKEN_HEADER)
  if (given === null) throw new ForgeryError(`${TOKEN_HEADER} is missing`)
  if (!token || !isSame(given, token)) throw new ForgeryError(`${TOKEN_HEADER} is of another session`)
}

/** Takes as long wherever the texts differ. */
function isSame(one: string, other: string): boolean {
  let differences = one.length ^ other.length
  for (let at = 0; at < other.length; at += 1) differences |= one.charCodeAt(at) ^ other.charCodeAt(at)
  return differences === 0
}
