import {
  authorizationCodeGrant,
  allowInsecureRequests,
  buildAuthorizationUrl,
  calculatePKCECodeChallenge,
  ClientSecretPost,
  discovery,
  randomPKCECodeVerifier,
} from 'openid-client'
import { CLIENT } from '../../examples/allotment/identity-provider.js'

/** Somebody with a browser that runs no scripts: follows redirects, and keeps cookies by their names. */
export class Visitor {
  readonly cookies = new Map<string, string>()

  /**
   * @param until where to stop: a redirect to an address that begins so is not followed
   * @returns the last answer, and where it came from or leads
   */
  async go(url: string, init: RequestInit = {}, until?: string): Promise<{ url: URL; response: Response }> {
    const cookie = [...this.cookies].map(([name, value]) => `${name}=${value}`).join('; ')
    const headers = { ...(cookie && { cookie }), ...(init.headers as Record<string, string>) }
    const response = await fetch(url, { ...init, headers, redirect: 'manual' })
    for (const set of response.headers.getSetCookie()) this.#keep(set)
    const location = response.headers.get('location')
    if (location === null) return { url: new URL(url), response }
    const next = new URL(location, url)
    if (until !== undefined && next.href.startsWith(until)) return { url: next, response }
    return this.go(next.href, {}, until)
  }

  #keep(set: string): void {
    const [whole = '', name = '', value = ''] = /^([^=]+)=([^;]*)/.exec(set) ?? []
    // Browsers keep no larger ones.
    if (whole.length > 4096) return
    if (value === '' || /max-age=0|expires=thu, 01 jan 1970/i.test(set)) this.cookies.delete(name)
    else this.cookies.set(name, value)
  }

  /** Goes to an address that leads to the identity provider, chooses whom to be, and comes back. */
  async signIn(at: string, account: string, until?: string) {
    const chooser = await this.go(at)
    const body = new URLSearchParams({ account })
    return this.go(chooser.url.href, { method: 'POST', body }, until)
  }
}

/** A token of the identity provider, for an audience. */
export async function tokenFor(
  issuer: string,
  application: string,
  account: string,
  audience: string,
): Promise<string> {
  const config = await discovery(new URL(issuer), CLIENT.id, undefined, ClientSecretPost(CLIENT.secret), {
    execute: [allowInsecureRequests],
  })
  const verifier = randomPKCECodeVerifier()
  const redirect = `${application}/sign-in/return`
  const start = buildAuthorizationUrl(config, {
    redirect_uri: redirect,
    scope: 'openid records',
    resource: audience,
    code_challenge: await calculatePKCECodeChallenge(verifier),
    code_challenge_method: 'S256',
  })
  const { url } = await new Visitor().signIn(start.href, account, redirect)
  const tokens = await authorizationCodeGrant(config, url, { pkceCodeVerifier: verifier }, { resource: audience })
  return tokens.access_token
}
