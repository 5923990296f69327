import { inFull } from '../model/index.js'
import {
  anonymous,
  type CallerDefinition,
  type CallerOf,
  type CallerShape,
  checkCaller,
  type Rules,
} from '../rules/index.js'
import { CredentialsError, IdentityConfigError, IdentityUnavailableError } from './errors.js'
import type { IdentityEvent, Source } from './source.js'

/** Says who asks. */
export interface Identity<C, N = unknown> {
  /**
   * The caller of a request; `anonymous` where it carries no credentials at all.
   *
   * @param request the request
   * @param native the same as the server has it, for sources that read what its middleware put there
   * @throws {CredentialsError} 401, where credentials are no good
   * @throws {ForgeryError} 403, where a write comes with a cookie and from elsewhere
   * @throws {IdentityUnavailableError} 503, where it cannot be found out at the moment
   */
  callerOf(request: Request, native?: N): Promise<CallerOf<C>>
  /**
   * Has what the server's middleware put on a request when it came read anew, before its caller is found once more: for requests
   * that last.
   *
   * @throws {CredentialsError} 401, where it is over
   */
  renew(request: Request, native?: N): Promise<void>
  /** What `WWW-Authenticate` offers. */
  readonly challenge: string
}

/** How callers are found. */
export interface IdentityOptions<C, N> {
  /** The rules whose callers they are. */
  readonly rules: Rules<unknown, C, unknown>
  /** The ways to know who asks, in the order in which they are tried: the first that has something to say, says it. */
  readonly sources: readonly Source<C, N>[]
  /** Hears what an operator may want to know; left out, the console hears of all but refusals. */
  readonly onEvent?: (event: IdentityEvent) => void
}

/**
 * Puts the ways to know who asks together, and looks whether each can work.
 *
 * A request that carries no credentials is that of `anonymous`. One with credentials that are no good is refused and never
 * becomes anonymous; so is one with an `Authorization` that no source reads.
 *
 * @throws {IdentityConfigError} where something about it cannot work, such as an issuer that does not answer
 * @example
 * const identity = await createIdentity({
 *   rules,
 *   sources: [bearerToken<typeof caller>({ issuer, audience: 'korenveld', caller: ({ sub }) => ({ id: Number(sub) }) })],
 * })
 * const mine = guard.as(await identity.callerOf(request))
 */
export async function createIdentity<C extends CallerDefinition, N = never>(
  options: IdentityOptions<C, N>,
): Promise<Identity<C, N>> {
  const { rules, sources, onEvent = toConsole } = options
  if (sources.length === 0) throw new IdentityConfigError('No source says who asks; give at least one.')
  for (const source of sources) await source.ready?.()
  return {
    challenge: sources.flatMap(({ challenge = [] }) => challenge).join(', ') || 'Session',
    callerOf: async (request, native) => {
      for (const source of sources) {
        const finding = await asked(source, { request, native, note: onEvent })
        if (finding.found === 'nothing') continue
        if (finding.found === 'refused') return refuse(source.name, finding.reason)
        assertCaller(rules.caller, source.name, finding.caller, onEvent)
        return finding.caller
      }
      if (request.headers.has('authorization')) return refuse('authorization', 'no source reads this Authorization')
      return anonymous as CallerOf<C>
    },
    renew: async (request, native) => {
      for (const { name, renew } of sources) {
        if (renew && !(await renew({ request, native, note: onEvent }))) refuse(name, 'what said who asks is over')
      }
    },
  }

  function refuse(source: string, reason: string): never {
    onEvent({ kind: 'refused', source, reason })
    throw new CredentialsError(reason)
  }
}

/** Refuses a caller that is none of the rules', or trusted: only code is, and no request. */
function assertCaller(shape: CallerShape, source: string, caller: unknown, note: (event: IdentityEvent) => void): void {
  try {
    if (checkCaller(shape, caller).trusted === undefined) return
  } catch (cause) {
    note({ kind: 'caller-invalid', source, cause })
    throw new CredentialsError(inFull(cause))
  }
  throw new IdentityConfigError(`${source} made a request trusted; only code can be, and no request is.`)
}

async function asked<C, N>(source: Source<C, N>, asking: Parameters<Source<C, N>['identify']>[0]) {
  try {
    return await source.identify(asking)
  } catch (cause) {
    if (cause instanceof IdentityUnavailableError) asking.note({ kind: 'unavailable', source: source.name, cause })
    throw cause
  }
}

function toConsole(event: IdentityEvent): void {
  // These are as many as somebody likes to send.
  if (event.kind !== 'refused' && event.kind !== 'looking') console.warn('pachter: identity:', event)
}
