import { parse } from 'cookie'
import type { Guard, UntypedStore } from '../guard/index.js'
import type { CallerDefinition, CallerOf, RoleOf } from '../rules/index.js'
import { LookingError } from './errors.js'
import { isSafe } from './forgery.js'
import { type Asking, type Source, thisCaller } from './source.js'

/** Who may look as somebody else, and as whom. */
export interface LookAsOptions<C> {
  /** Who may: those who have this role at the moment of each request. */
  readonly role: RoleOf<C>
  /**
   * The caller whom the cookie names, such as by the number of a member; nothing where it names nobody, and then whoever asks is
   * who they are.
   */
  caller(named: string, asking: Pick<Asking, 'note'>): CallerOf<C> | undefined | Promise<CallerOf<C> | undefined>
  /** What the cookie is called; left out, `look-as`. A page of this site sets it and takes it away. */
  readonly cookie?: string
}

/**
 * Lets whoever has a role look at the application as somebody else, by a cookie that names them: they are told what that one is
 * told, and whatever would change something is refused. Without the role the cookie means nothing. `onEvent` of the identity hears
 * of each request.
 *
 * @param guard what says who has the role
 * @param source what says who really asks
 * @example
 * const seen = lookAs(guard, signIn.source, { role: 'secretary', caller: (id) => ({ id: Number(id) }) })
 * const identity = await createIdentity({ rules, sources: [seen] })
 */
export function lookAs<M, C extends CallerDefinition, A, N>(
  guard: Guard<M, C, A>,
  source: Source<C, N>,
  { role, caller, cookie = 'look-as' }: LookAsOptions<C>,
): Source<C, N> {
  return {
    ...source,
    identify: async (asking) => {
      const finding = await source.identify(asking)
      if (finding.found !== 'caller') return finding
      const named = parse(asking.request.headers.get('cookie') ?? '')[cookie]
      if (!named) return finding
      const own = guard.as(finding.caller) as unknown as UntypedStore
      if (!(await own.hasRole(role))) return finding
      const other = await caller(named, asking)
      if (!other) return finding
      if (!isSafe(asking.request)) {
        throw new LookingError('You are looking as somebody else, and can change nothing meanwhile.')
      }
      asking.note({ kind: 'looking', caller: finding.caller, as: other })
      return thisCaller<C>(other)
    },
  }
}
