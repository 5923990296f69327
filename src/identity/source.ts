import type { CallerOf } from '../rules/index.js'

/** What a source of identity has to say of a request. */
export type Finding<C> =
  /** The request carries nothing that this source reads: the next is asked. */
  | { readonly found: 'nothing' }
  | { readonly found: 'caller'; readonly caller: CallerOf<C> }
  /** It carries credentials for this source, and they are no good: nobody else is asked. */
  | { readonly found: 'refused'; readonly reason: string }

/** The request carries nothing that this source reads. */
export const notMine = Object.freeze({ found: 'nothing' } as const)

/** This caller asks. */
export const thisCaller = <C>(caller: CallerOf<C>): Finding<C> => ({ found: 'caller', caller })

/** The credentials are no good. */
export const refused = (reason: string) => ({ found: 'refused', reason }) as const

/** Something an operator may want to know. */
export type IdentityEvent =
  | { readonly kind: 'refused'; readonly source: string; readonly reason: string }
  | { readonly kind: 'unavailable'; readonly source: string; readonly cause: unknown }
  /** A source made a caller whom the rules do not know: a mistake in the application. */
  | { readonly kind: 'caller-invalid'; readonly source: string; readonly cause: unknown }
  | { readonly kind: 'group-unknown'; readonly group: string }
  /** Somebody looks as somebody else; told with each request. */
  | { readonly kind: 'looking'; readonly caller: unknown; readonly as: unknown }
  | { readonly kind: 'record-created'; readonly table: string; readonly key: unknown }

/** A request whose caller is looked for. */
export interface Asking<N = unknown> {
  readonly request: Request
  /** The request as the server has it, such as Express's, with what its middleware put there; for sessions. */
  readonly native?: N | undefined
  note(event: IdentityEvent): void
}

/**
 * One way to know who asks, such as a token or a session. Of your own: an object with a name and `identify`.
 *
 * @example
 * const byKey = { name: 'api key', identify: ({ request }) => (request.headers.get('x-key') === KEY ? thisCaller(script) : notMine) }
 */
export interface Source<C, N = never> {
  /** For the log. */
  readonly name: string
  /** What `WWW-Authenticate` offers to whoever has to sign in, such as `Bearer`. */
  readonly challenge?: string
  /** @throws {IdentityUnavailableError} where it cannot be found out at the moment */
  identify(asking: Asking<N>): Finding<C> | Promise<Finding<C>>
  /**
   * Reads anew what the server's middleware put on a request when it came, such as a session, and says whether it is still
   * there: for requests that last, such as those for live lists. Left out, it reads nothing of that kind.
   */
  renew?(asking: Asking<N>): boolean | Promise<boolean>
  /** Looks whether it can work, once, before the first request. */
  ready?(): Promise<void>
}

/** What was proven of whoever asks: the claims of a token, or what another application said. */
export type Claims = Readonly<Record<string, unknown>>

/** Who asks, by what was proven; nothing where nobody here is meant. */
export type ToCaller<C> = (
  claims: Claims,
  asking: Pick<Asking, 'note'>,
) => CallerOf<C> | undefined | Promise<CallerOf<C> | undefined>

/** The finding for claims that were proven: somebody who is not known here is refused. */
export async function findingOf<C>(claims: Claims, toCaller: ToCaller<C>, asking: Asking<never>): Promise<Finding<C>> {
  const caller = await toCaller(claims, asking)
  return caller ? thisCaller<C>(caller) : refused('what was proven is of nobody who is known here')
}
