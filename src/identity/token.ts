import { createRemoteJWKSet, decodeJwt, errors, jwtVerify } from 'jose'
import { IdentityConfigError, IdentityUnavailableError } from './errors.js'
import { assertAddress, assertAmount, reasonOf } from './settings.js'
import { type Finding, findingOf, notMine, refused, type Source, type ToCaller } from './source.js'

/** What signs tokens here: with a key pair, so that whoever checks a token cannot make one. */
const ALGORITHMS = ['RS256', 'PS256', 'ES256', 'ES384', 'EdDSA', 'Ed25519']

/** The longest token that is looked at, in characters. */
const LONGEST = 16_384

/** At most how often keys are fetched for tokens signed with one that is not known. */
const COOLDOWN_SECONDS = 30

/** How tokens are checked. */
export interface TokenOptions<C> {
  /** Who issues the tokens: the `iss` that they must have, and where the issuer describes itself. */
  readonly issuer: string
  /** For whom tokens have to be: an `aud` that this application is known by, and nobody else. */
  readonly audience: string
  /** The caller, by the claims of a token; nothing where nobody here is meant. */
  readonly caller: ToCaller<C>
  /** Where the issuer's keys are (JWKS); left out, where its description says. */
  readonly keys?: string
  /** How far its clock may be off, 0 to 300 seconds; left out, 30. */
  readonly clockSeconds?: number
  /** For how long its keys count before they are fetched again, 1 to 86,400 seconds; left out, 600. */
  readonly keepKeysSeconds?: number
}

/**
 * Reads a signed token (JWT) from `Authorization: Bearer …`. The issuer's keys are fetched at the start and kept; a token
 * signed with one that is not among them has them fetched again, at most every 30 seconds.
 *
 * Tokens of another issuer are left to the next source. All others have to be signed by the issuer, with a key pair, for this
 * audience, and neither expired nor from the future.
 *
 * @param options how tokens are checked
 * @throws {IdentityConfigError} where the options cannot work; at the start, where the issuer or its keys are not there
 * @see https://www.rfc-editor.org/rfc/rfc7519 and, for the practice, https://www.rfc-editor.org/rfc/rfc8725
 * @example
 * bearerToken<typeof caller>({ issuer: 'https://id.korenveld.example', audience: 'korenveld', caller: ({ sub }) => ({ id: Number(sub) }) })
 */
export function bearerToken<C>(options: TokenOptions<C>): Source<C> {
  const { issuer, audience, caller, clockSeconds = 30, keepKeysSeconds = 600 } = options
  assertAddress('issuer', issuer)
  if (!audience)
    throw new IdentityConfigError('audience is missing; without one, a token for any other service would do.')
  assertAmount('clockSeconds', clockSeconds, 0, 300)
  assertAmount('keepKeysSeconds', keepKeysSeconds, 1, 86_400)
  let keys: ReturnType<typeof createRemoteJWKSet> | undefined

  return {
    name: `token of ${issuer}`,
    challenge: 'Bearer',
    ready: async () => {
      const url = options.keys === undefined ? await keysOf(issuer) : assertAddress('keys', options.keys)
      const found = createRemoteJWKSet(url, {
        cacheMaxAge: keepKeysSeconds * 1000,
        cooldownDuration: Math.min(keepKeysSeconds, COOLDOWN_SECONDS) * 1000,
        timeoutDuration: 3000,
      })
      await found.reload().catch((cause: unknown) => {
        throw new IdentityConfigError(`The keys of ${issuer} cannot be read from ${url.href}: ${reasonOf(cause)}.`)
      })
      keys = found
    },
    identify: async (asking): Promise<Finding<C>> => {
      const header = asking.request.headers.get('authorization') ?? ''
      const [scheme, token, ...rest] = header.split(' ')
      if (scheme?.toLowerCase() !== 'bearer') return notMine
      if (!token || rest.length > 0 || token.length > LONGEST) return refused('what follows Bearer is no token')
      if (issuerIn(token) !== issuer) return notMine
      if (!keys) throw new IdentityConfigError('A source is used before it is ready; createIdentity gets it ready.')
      try {
        const { payload } = await jwtVerify(token, keys, {
          issuer,
          audience,
          algorithms: ALGORITHMS,
          clockTolerance: clockSeconds,
          requiredClaims: ['exp', 'sub'],
        })
        return await findingOf(payload, caller, asking)
      } catch (error) {
        if (isNoAnswer(error)) throw new IdentityUnavailableError(error)
        if (error instanceof errors.JOSEError) return refused(error.message)
        throw error
      }
    },
  }
}

/** Whom a token says it is from, before anything about it is believed. */
function issuerIn(token: string): string | undefined {
  try {
    return decodeJwt(token).iss
  } catch {
    return undefined
  }
}

/** Whether the keys could not be fetched: no connection, no answer in time, or not the right one. */
const isNoAnswer = (error: unknown): boolean =>
  error instanceof errors.JWKSTimeout ||
  error instanceof errors.JWKSInvalid ||
  (error instanceof errors.JOSEError && error.code === 'ERR_JOSE_GENERIC') ||
  (error instanceof TypeError && error.message === 'fetch failed')

/** Where an issuer says that its keys are. */
async function keysOf(issuer: string): Promise<URL> {
  const at = `${issuer.replace(/[/]$/, '')}/.well-known/openid-configuration`
  try {
    const response = await fetch(at, { redirect: 'error', signal: AbortSignal.timeout(3000) })
    if (response.status !== 200) throw new Error(`it answered ${response.status}`)
    const described = (await response.json()) as { readonly issuer?: unknown; readonly jwks_uri?: unknown }
    if (described.issuer !== issuer) throw new Error(`it calls itself ${String(described.issuer)}`)
    return assertAddress('jwks_uri', String(described.jwks_uri))
  } catch (cause) {
    throw new IdentityConfigError(`The issuer cannot be read from ${at}: ${reasonOf(cause)}.`)
  }
}
