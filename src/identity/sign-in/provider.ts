import {
  allowInsecureRequests,
  authorizationCodeGrant,
  buildAuthorizationUrl,
  buildEndSessionUrl,
  calculatePKCECodeChallenge,
  ClientError,
  ClientSecretPost,
  type Configuration,
  discovery,
  None,
} from 'openid-client'
import { IdentityConfigError, IdentityUnavailableError } from '../errors.js'
import { isLocal, reasonOf } from '../settings.js'
import type { Claims } from '../source.js'
import type { Checked } from './options.js'

/** What a browser is sent to the provider with, and what has to come back. */
export interface Pending {
  readonly state: string
  readonly nonce: string
  readonly verifier: string
  /** Where to go afterwards. */
  readonly to: string
}

/** The identity provider, as this application uses it. */
export interface Provider {
  /** Where to send the browser. */
  start(pending: Pending): Promise<URL>
  /** What the provider proves of whoever came back. */
  finish(returned: URL, pending: Pending): Promise<{ readonly claims: Claims; readonly idToken: string }>
  /** Where to send the browser to sign out there as well; nothing where the provider has no such place. */
  end(idToken: string): URL | undefined
}

/**
 * Reads what the provider says of itself.
 * @throws {IdentityConfigError} where it does not answer
 */
export async function findProvider<C>(options: Checked<C>): Promise<Provider> {
  const { issuer, clientId, clientSecret, origin, path, scope, afterSignOut } = options
  const config = await discovered()
  const redirect = `${origin}${path}/return`
  return {
    start: async ({ state, nonce, verifier }) =>
      buildAuthorizationUrl(config, {
        redirect_uri: redirect,
        scope,
        state,
        nonce,
        code_challenge: await calculatePKCECodeChallenge(verifier),
        code_challenge_method: 'S256',
      }),
    finish: async (returned, { state, nonce, verifier }) => {
      const tokens = await authorizationCodeGrant(config, returned, {
        expectedState: state,
        expectedNonce: nonce,
        pkceCodeVerifier: verifier,
        idTokenExpected: true,
      }).catch((error: unknown) => {
        throw isNoAnswer(error) ? new IdentityUnavailableError(error) : error
      })
      return { claims: tokens.claims() ?? {}, idToken: tokens.id_token ?? '' }
    },
    end: (idToken) =>
      config.serverMetadata().end_session_endpoint === undefined
        ? undefined
        : buildEndSessionUrl(config, {
            post_logout_redirect_uri: `${origin}${afterSignOut}`,
            ...(idToken && { id_token_hint: idToken }),
          }),
  }

  async function discovered(): Promise<Configuration> {
    const authentication = clientSecret === undefined ? None() : ClientSecretPost(clientSecret)
    // What goes to this machine itself needs no encryption; anything else was refused before.
    const execute = issuer.protocol === 'http:' && isLocal(issuer) ? [allowInsecureRequests] : []
    try {
      return await discovery(issuer, clientId, undefined, authentication, { execute, timeout: 5 })
    } catch (cause) {
      throw new IdentityConfigError(`The identity provider ${issuer.href} cannot be read: ${reasonOf(cause)}.`)
    }
  }
}

/** Whether the provider did not answer, or answered that it cannot; anything else it says is about this sign-in. */
function isNoAnswer(error: unknown): boolean {
  if (error instanceof TypeError) return true
  if (!(error instanceof ClientError)) return false
  const { cause, code } = error
  return code === 'OAUTH_TIMEOUT' || (cause instanceof Response && cause.status >= 500)
}
