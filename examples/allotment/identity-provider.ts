import { generateKeyPairSync, randomBytes } from 'node:crypto'
import { createServer } from 'node:http'
import type { AddressInfo } from 'node:net'
import express from 'express'
import { Provider } from 'oidc-provider'

/** Somebody the provider knows. */
export interface Account {
  readonly name: string
  readonly email: string
  /** What the page to choose from says of them. */
  readonly about?: string
  readonly groups?: readonly string[]
}

/** How the application is known to the provider. */
export const CLIENT = { id: 'korenveld', secret: 'only-for-the-demo' } as const

/** The audience of tokens for the application's own interface. */
export const AUDIENCE = 'https://korenveld.example/api'
/** What else the provider gives tokens for. */
export const ELSEWHERE = 'https://shop.korenveld.example'

const AUDIENCES = [AUDIENCE, ELSEWHERE]

export interface IdentityProvider {
  readonly issuer: string
  close(): Promise<void>
}

/**
 * Korenveld's identity provider, on a port of its own: an OpenID Connect server as any other, but that whoever comes may
 * choose whom to be. A real one asks for a password here.
 *
 * @param accounts those who can sign in, by the subject that stands in their tokens
 * @param application where the application is reached, such as `http://127.0.0.1:4310`
 * @param options.port 0 takes any free port
 * @param options.tokenSeconds how long its tokens are good; left out, an hour
 */
export async function startIdentityProvider(
  accounts: ReadonlyMap<string, Account>,
  application: string,
  { port = 0, tokenSeconds = 3600 }: { readonly port?: number; readonly tokenSeconds?: number } = {},
): Promise<IdentityProvider> {
  const app = express()
  const server = createServer(app)
  await new Promise<void>((resolve, reject) => {
    server.once('error', reject)
    server.listen(port, '127.0.0.1', resolve)
  })
  const issuer = `http://127.0.0.1:${(server.address() as AddressInfo).port}`
  const provider = providerFor(issuer, accounts, application, tokenSeconds)
  app.get('/choose/:uid', async (request, response) => {
    const { uid } = await provider.interactionDetails(request, response)
    response.type('html').send(chooser(uid, accounts))
  })
  app.post('/choose/:uid', express.urlencoded({ extended: false }), async (request, response) => {
    const accountId = String((request.body as Record<string, unknown>)['account'])
    if (!accounts.has(accountId)) response.status(404).send('Nobody of that name.')
    else await provider.interactionFinished(request, response, { login: { accountId } })
  })
  app.use(provider.callback())
  return {
    issuer,
    close: async () => {
      server.closeAllConnections()
      await new Promise((resolve) => server.close(resolve))
    },
  }
}

function providerFor(
  issuer: string,
  accounts: ReadonlyMap<string, Account>,
  application: string,
  tokenSeconds: number,
): Provider {
  const { privateKey } = generateKeyPairSync('rsa', { modulusLength: 2048 })
  const provider: Provider = new Provider(issuer, {
    clients: [
      {
        client_id: CLIENT.id,
        client_secret: CLIENT.secret,
        token_endpoint_auth_method: 'client_secret_post',
        grant_types: ['authorization_code'],
        response_types: ['code'],
        redirect_uris: [`${application}/sign-in/return`],
        post_logout_redirect_uris: [`${application}/`],
      },
    ],
    jwks: {
      keys: [
        { ...privateKey.export({ format: 'jwk' }), alg: 'RS256', use: 'sig', kid: randomBytes(8).toString('hex') },
      ] as never,
    },
    ttl: {
      AccessToken: tokenSeconds,
      AuthorizationCode: 60,
      IdToken: 3600,
      Interaction: 600,
      Grant: 3600,
      Session: 3600,
    },
    cookies: { keys: [randomBytes(32).toString('hex')] },
    claims: { openid: ['sub'], email: ['email', 'email_verified'], profile: ['name', 'groups'] },
    // All that was asked for stands in the token of who signed in, so that nobody has to ask again.
    conformIdTokenClaims: false,
    findAccount: (_, id) => {
      const account = accounts.get(id)
      if (!account) return undefined
      const { name, email, groups = [] } = account
      return { accountId: id, claims: () => ({ sub: id, name, email, email_verified: true, groups }) }
    },
    interactions: { url: (_, { uid }) => `/choose/${uid}` },
    // The association's own application: nobody is asked whether it may know who they are.
    loadExistingGrant: async ({ oidc }) => {
      const { client, session } = oidc
      if (!client || !session?.accountId) return undefined
      const grant = new provider.Grant({ clientId: client.clientId, accountId: session.accountId })
      grant.addOIDCScope('openid email profile')
      for (const audience of AUDIENCES) grant.addResourceScope(audience, 'records')
      await grant.save()
      return grant
    },
    features: {
      devInteractions: { enabled: false },
      rpInitiatedLogout: { enabled: true, logoutSource: signOutPage },
      resourceIndicators: {
        enabled: true,
        defaultResource: () => [],
        useGrantedResource: () => false,
        getResourceServerInfo: (_, resource) => ({
          scope: 'records',
          audience: resource,
          accessTokenFormat: 'jwt',
          jwt: { sign: { alg: 'RS256' } },
        }),
      },
    },
  })
  return provider
}

const page = (title: string, body: string): string => `<!doctype html>
<html lang="en">
<meta charset="utf-8">
<meta name="viewport" content="width=device-width">
<title>${title}</title>
<style>
  body { font: 16px/1.5 system-ui, sans-serif; max-width: 44rem; margin: 3rem auto; padding: 0 1rem; color: #1f2a24; }
  form { display: grid; grid-template-columns: repeat(auto-fill, minmax(12rem, 1fr)); gap: .5rem; }
  button { font: inherit; text-align: left; padding: .5rem .75rem; border: 1px solid #b9c7be; border-radius: 4px; background: #fff; cursor: pointer; }
  button:hover, button:focus-visible { border-color: #12805c; background: #eef7f2; }
  small { display: block; color: #57655d; }
</style>
<h1>${title}</h1>
${body}
</html>`

function chooser(uid: string, accounts: ReadonlyMap<string, Account>): string {
  // Those of whom there is something to say come first.
  const ordered = [...accounts].sort(([, one], [, other]) => Number(!one.about) - Number(!other.about))
  const buttons = ordered.map(
    ([id, { name, email, about }]) =>
      `<button name="account" value="${id}">${name}<small>${about ?? email}</small></button>`,
  )
  return page(
    'Who are you?',
    `<p>Korenveld’s demo asks for no password.</p><form method="post" action="/choose/${uid}">${buttons.join('')}</form>`,
  )
}

function signOutPage(context: { body: unknown }, form: string): void {
  context.body = page(
    'Sign out',
    `${form}<button form="op.logoutForm" name="logout" value="yes">Sign out everywhere</button>`,
  )
}
