import type { CallerOf } from '../rules/index.js'
import { IdentityConfigError } from './errors.js'
import { assertFromHere, assertToken } from './forgery.js'
import { notMine, type Asking, type Source, thisCaller } from './source.js'

/** A session that the application has already. */
export interface SessionOptions<C, N> {
  /** The caller of a session; nothing where nobody has signed in. May ask a store. */
  caller(asking: Asking<N>): CallerOf<C> | undefined | Promise<CallerOf<C> | undefined>
  /** The token that the application gave to the session's pages: writes have to carry it as `X-CSRF-Token`. */
  token(asking: Asking<N>): string | undefined
  /**
   * Reads the session of a request anew, and says whether it is still there: while a live list is open, nobody else does.
   *
   * @example renew: (request) => new Promise((resolve) => request.session.reload((error) => resolve(!error)))
   */
  renew(native: N): boolean | Promise<boolean>
}

/**
 * Reads the session that an application has already, such as that of `express-session`. Writes have to come from a page of
 * this site and carry the session's token.
 *
 * @param options how the application's session says who has signed in
 * @throws {IdentityConfigError} by `createIdentity`, where nothing says how a session is read anew
 * @example
 * const fromSession = session<typeof caller, Express.Request>({
 *   caller: ({ native }) => (native?.session.memberId ? { id: native.session.memberId } : undefined),
 *   token: ({ native }) => native?.session.token,
 *   renew: (request) => new Promise((resolve) => request.session.reload((error) => resolve(!error))),
 * })
 */
export function session<C, N = never>(options: SessionOptions<C, N>): Source<C, N> {
  return {
    name: 'session',
    ready: async () => {
      if (typeof options.renew === 'function') return
      throw new IdentityConfigError('session needs renew, which reads the session of a request anew.')
    },
    // Where nobody has signed in, there is nothing that could be over.
    renew: async (asking) =>
      !(await options.caller(asking)) ||
      ((await options.renew(asking.native as N)) && (await options.caller(asking)) !== undefined),
    identify: async (asking) => {
      const caller = await options.caller(asking)
      if (!caller) return notMine
      assertFromHere(asking.request)
      assertToken(asking.request, options.token(asking))
      return thisCaller<C>(caller)
    },
  }
}
