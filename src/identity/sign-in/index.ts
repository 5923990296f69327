import { randomNonce, randomPKCECodeVerifier, randomState } from 'openid-client'
import { inFull } from '../../model/index.js'
import { CredentialsError, IdentityUnavailableError } from '../errors.js'
import { assertFromHere, assertToken } from '../forgery.js'
import { findingOf, type IdentityEvent, notMine, refused, type Source } from '../source.js'
import { cookiesFor } from './cookies.js'
import { checked, type SignInOptions } from './options.js'
import { findProvider, type Pending, type Provider } from './provider.js'
import { sealWith } from './seal.js'
import { nameOf, type SignedIn } from './sessions.js'

export type { SignInOptions } from './options.js'
export { type SessionStore, sessionsInMemory, type SignedIn } from './sessions.js'

const SESSION = 'pachter-session'
const PENDING = 'pachter-sign-in'

/** How long somebody may take to sign in at the provider. */
const PENDING_SECONDS = 600

/** How many characters an address to come back to has: with more, browsers would not keep the cookie that remembers it. */
const LONGEST_TO = 2_000

/** Signing in by browser: its pages, and the source that reads its session. */
export interface SignIn<C> {
  /** Reads the session that signing in began. */
  readonly source: Source<C>
  /** Where to send somebody who has to sign in, and then back to a page of this site. */
  signInAt(backTo: string): string
  /**
   * Answers requests for the pages of sign-in: `GET /sign-in?to=/entries` begins, `GET /sign-in/return` ends it,
   * `GET /sign-in/session` says whether somebody has signed in, with the token that writes carry, and
   * `POST /sign-in/out` signs out.
   *
   * @returns nothing where the request is for another page
   */
  handle(request: Request): Promise<Response | undefined>
}

/**
 * Lets people sign in with their browser, by the authorization code flow of OpenID Connect with PKCE, state and nonce.
 *
 * A session begins under a new name each time, so that one planted before is worth nothing; its cookie can be read by no
 * page and is sent by no other site, and writes have to carry the session's token besides.
 *
 * @param options how
 * @throws {IdentityConfigError} where the options cannot work; at the start, where the provider does not answer
 * @see https://openid.net/specs/openid-connect-core-1_0.html#CodeFlowAuth
 * @example
 * const signIn = browserSignIn<typeof caller>({ issuer, clientId: 'korenveld', origin: 'https://korenveld.example', secret, caller: member })
 * const identity = await createIdentity({ rules, sources: [signIn.source] })
 */
export function browserSignIn<C>(options: SignInOptions<C>): SignIn<C> {
  const settings = checked(options)
  const { path, origin, sessions, sessionSeconds, afterSignOut } = settings
  const cookies = cookiesFor(settings.secure)
  const pendings = sealWith<Pending>(settings.secret, PENDING_SECONDS)
  let provider: Provider | undefined
  /** What happened where nobody listened; told with the next request. */
  const untold: IdentityEvent[] = []

  return {
    source: {
      name: 'signed in by browser',
      ready: async () => {
        provider = await findProvider(settings)
      },
      identify: async (asking) => {
        for (const event of untold.splice(0)) asking.note(event)
        const secret = cookies.read(asking.request, SESSION)
        if (secret === undefined) return notMine
        const session = await sessions.get(nameOf(secret))
        if (!session) return refused('the session has ended')
        assertFromHere(asking.request)
        assertToken(asking.request, session.token)
        return findingOf(session.claims, settings.caller, asking)
      },
    },
    signInAt: (backTo) => `${path}?${new URLSearchParams({ to: backTo }).toString()}`,
    handle: async (request) => {
      const { pathname, searchParams } = new URL(request.url)
      const page = pathname === path ? '' : pathname.startsWith(`${path}/`) ? pathname.slice(path.length) : undefined
      if (page === undefined) return undefined
      if (request.method === 'GET' && page === '') return begin(searchParams.get('to'))
      if (request.method === 'GET' && page === '/return') return end(request).catch(failed)
      if (request.method === 'GET' && page === '/session') return tell(request)
      if (request.method === 'POST' && page === '/out') return signOut(request)
      return undefined
    },
  }

  async function begin(to: string | null): Promise<Response> {
    const pending = { state: randomState(), nonce: randomNonce(), verifier: randomPKCECodeVerifier(), to: ownPage(to) }
    const at = await known().start(pending)
    return redirect(at.href, cookies.write(PENDING, await pendings.seal(pending), PENDING_SECONDS))
  }

  async function end(request: Request): Promise<Response> {
    const sealed = cookies.read(request, PENDING)
    const pending = sealed === undefined ? undefined : await pendings.open(sealed)
    if (!pending) throw new CredentialsError('no sign-in is under way in this browser')
    const { search } = new URL(request.url)
    const proven = await known()
      .finish(new URL(`${path}/return${search}`, origin), pending)
      .catch((error: unknown) => {
        throw error instanceof IdentityUnavailableError ? error : new CredentialsError(inFull(error))
      })
    // Whoever is nobody here is told so now: sent to sign in, they would come back as the same.
    const caller = await settings.caller(proven.claims, { note: (event) => void untold.push(event) })
    if (!caller) throw new CredentialsError('whoever signed in is nobody who is known here')
    // A session from before, whoever planted it, ends here.
    await forget(request)
    const secret = randomState()
    await sessions.set(nameOf(secret), { ...proven, token: randomState() }, sessionSeconds)
    return redirect(pending.to, cookies.write(SESSION, secret, sessionSeconds), cookies.clear(PENDING))
  }

  /** Nobody is sent to sign in again by itself: what failed once may fail each time. */
  function failed(error: unknown): Response {
    if (!(error instanceof CredentialsError)) throw error
    settings.onFailure?.(error)
    const headers = { 'content-type': 'text/html; charset=utf-8', 'cache-control': 'no-store' }
    return new Response(failedPage(path), { status: 401, headers })
  }

  async function tell(request: Request): Promise<Response> {
    const session = await sessionOf(request)
    const said = session
      ? { signedIn: true, name: session.claims['name'] ?? null, token: session.token }
      : { signedIn: false }
    const headers = new Headers({ 'cache-control': 'no-store', vary: 'Cookie' })
    // What is over is taken away, so that whoever had it is nobody again, and not refused.
    if (!session && cookies.read(request, SESSION) !== undefined) headers.set('set-cookie', cookies.clear(SESSION))
    return Response.json(said, { headers })
  }

  async function signOut(request: Request): Promise<Response> {
    // Browsers withhold the cookie from other sites, and would take it away for them all the same.
    assertFromHere(request)
    const session = await sessionOf(request)
    if (session) {
      assertToken(request, session.token)
      await forget(request)
    }
    // Where to go next is told, not gone to: a page that signs out by script has to go there itself.
    const at = session && known().end(session.idToken)?.href
    return Response.json(
      { next: at ?? afterSignOut },
      {
        headers: { 'cache-control': 'no-store', 'set-cookie': cookies.clear(SESSION) },
      },
    )
  }

  async function sessionOf(request: Request): Promise<SignedIn | undefined> {
    const secret = cookies.read(request, SESSION)
    return secret === undefined ? undefined : sessions.get(nameOf(secret))
  }

  async function forget(request: Request): Promise<void> {
    const secret = cookies.read(request, SESSION)
    if (secret !== undefined) await sessions.delete(nameOf(secret))
  }

  function known(): Provider {
    if (provider) return provider
    throw new IdentityUnavailableError('the provider was not looked for; createIdentity does that')
  }

  /** A page of this site; the first one where anything else was asked for, or too long an address. */
  function ownPage(to: string | null): string {
    const url = new URL(to?.startsWith('/') && URL.canParse(to, origin) ? to : '/', origin)
    // Whole: a path alone can begin with two slashes, and lead elsewhere.
    return url.origin === origin && url.href.length <= LONGEST_TO ? url.href : `${origin}/`
  }
}

const failedPage = (path: string): string => `<!doctype html>
<html lang="en">
<meta charset="utf-8">
<meta name="viewport" content="width=device-width">
<title>Sign-in did not work</title>
<h1>Sign-in did not work</h1>
<p>It took too long, was begun in another window, or was called off; or you are not known here. <a href="${path}">Start again</a></p>
</html>
`

function redirect(location: string, ...setCookies: readonly string[]): Response {
  const headers = new Headers({ location, 'cache-control': 'no-store' })
  for (const cookie of setCookies) headers.append('set-cookie', cookie)
  return new Response(null, { status: 303, headers })
}
