import { IdentityConfigError } from '../errors.js'
import { assertAddress, assertAmount } from '../settings.js'
import type { ToCaller } from '../source.js'
import { type SessionStore, sessionsInMemory } from './sessions.js'

/** How people sign in with their browser. */
export interface SignInOptions<C> {
  /** The identity provider. */
  readonly issuer: string
  /** How the provider knows this application. */
  readonly clientId: string
  /** What proves to the provider that it is this application; left out, only the exchange itself does (PKCE). */
  readonly clientSecret?: string
  /** How browsers reach this application, such as `https://korenveld.example`; not taken from requests, which can lie. */
  readonly origin: string
  /** At least 32 characters that nobody knows: what seals the cookie of a sign-in under way. */
  readonly secret: string
  /** The caller, by what the provider proved; asked with each request. Nothing where nobody here is meant. */
  readonly caller: ToCaller<C>
  /** What the provider is asked for; left out, `openid email profile`. */
  readonly scope?: string
  /** Where the pages of sign-in are; left out, `/sign-in`. */
  readonly path?: string
  /** Where to go after signing out; left out, `/`. */
  readonly afterSignOut?: string
  /** Where sessions are kept; left out, in memory. */
  readonly sessions?: SessionStore
  /** Hears why a sign-in did not work, for `inFull`; left out, nobody does. */
  readonly onFailure?: (error: unknown) => void
  /** How long a session lasts, 60 to 2,592,000 seconds; left out, eight hours. */
  readonly sessionSeconds?: number
}

const FEWEST = 32

/**
 * Checks the options, and fills in what was left out.
 * @throws {IdentityConfigError}
 */
export function checked<C>(options: SignInOptions<C>) {
  const issuer = assertAddress('issuer', options.issuer)
  const origin = assertAddress('origin', options.origin)
  if (!options.clientId) throw new IdentityConfigError('clientId is missing: how the provider knows this application.')
  if (!options.secret || options.secret.length < FEWEST) {
    throw new IdentityConfigError(`secret has fewer than ${FEWEST} characters; make one with: openssl rand -base64 32`)
  }
  const { path = '/sign-in', afterSignOut = '/', sessionSeconds = 8 * 3600 } = options
  for (const [name, each] of Object.entries({ path, afterSignOut })) {
    if (!/^[/](?![/\\])[\w./~-]*$/.test(each))
      throw new IdentityConfigError(`${name} is '${each}'; it must be a path that begins with one slash.`)
  }
  assertAmount('sessionSeconds', sessionSeconds, 60, 30 * 86_400)
  return {
    ...options,
    issuer,
    origin: origin.origin,
    secure: origin.protocol === 'https:',
    scope: options.scope ?? 'openid email profile',
    path,
    afterSignOut,
    sessionSeconds,
    sessions: options.sessions ?? sessionsInMemory(),
  }
}

export type Checked<C> = ReturnType<typeof checked<C>>
