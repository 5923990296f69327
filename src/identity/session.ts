import type { CallerOf } from '../rules/index.js'
import { assertFromHere, assertToken } from './forgery.js'
import { notMine, type Asking, type Source, thisCaller } from './source.js'

/** A session that the application has already. */
export interface SessionOptions<C, N> {
  /** The caller of a session; nothing where nobody has signed in. May ask a store. */
  caller(asking: Asking<N>): CallerOf<C> | undefined | Promise<CallerOf<C> | undefined>
  /** The token that the application gave to the session's pages: writes have to carry it as `X-CSRF-Token`. */
  token(asking: Asking<N>): string | undefined
}

/**
 * Reads the session that an application has already, such as that of `express-session`. Writes have to come from a page of
 * this site and carry the session's token.
 *
 * @param options how the application's session says who has signed in
 * @example
 * const fromSession = session<typeof caller, Express.Request>({
 *   caller: ({ native }) => (native?.session.memberId ? { id: native.session.memberId } : undefined),
 *   token: ({ native }) => native?.session.token,
 * })
 */
export function session<C, N = never>(options: SessionOptions<C, N>): Source<C, N> {
  return {
    name: 'session',
    identify: async (asking) => {
      const caller = await options.caller(asking)
      if (!caller) return notMine
      assertFromHere(asking.request)
      assertToken(asking.request, options.token(asking))
      return thisCaller<C>(caller)
    },
  }
}
