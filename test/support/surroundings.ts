import { createServer, type Server } from 'node:http'
import type { AddressInfo } from 'node:net'
import { createGuard } from 'pachter'
import { openFixture } from 'pachter/check'
import type { Claims } from 'pachter/identity'
import { CLIENT, type IdentityProvider, startIdentityProvider } from '../../examples/allotment/identity-provider.js'
import { model } from '../../examples/allotment/model.js'
import { rules } from '../../examples/allotment/rules.js'

/** Those who can sign in; the last is no member. */
export const ACCOUNTS = new Map([
  ['1', { name: 'Ana Brouwer', email: 'ana@korenveld.example' }],
  ['4', { name: 'Dirk Vermeer', email: 'dirk@korenveld.example', groups: ['money', 'choir'] }],
  ['99', { name: 'Zeno Castel', email: 'zeno@korenveld.example' }],
])

export const bySubject = ({ sub }: Claims) => ({ id: Number(sub) })

/** A request with these headers. */
export const asked = (headers: Record<string, string>, method = 'GET') =>
  new Request('http://localhost/api/rents', { method, headers })

/** What the tests of identity need around them: Korenveld, its identity provider, and a server for an application. */
export function surroundings() {
  const closing: (() => unknown)[] = []
  let fixture: Awaited<ReturnType<typeof openFixture>>
  let provider: IdentityProvider
  let application: { readonly server: Server; readonly origin: string }

  async function listening() {
    const server = createServer()
    await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', () => resolve()))
    closing.push(() => {
      server.closeAllConnections()
      server.close()
    })
    return { server, origin: `http://127.0.0.1:${(server.address() as AddressInfo).port}` }
  }

  before(async () => {
    fixture = await openFixture(model, new URL('../../examples/allotment/data/', import.meta.url), 'sqlite')
    application = await listening()
    provider = await startIdentityProvider(ACCOUNTS, application.origin)
    closing.push(provider.close)
  })
  after(async () => {
    for (const close of closing) await close()
    await fixture?.close()
  })

  return {
    listening,
    closes: (close: () => unknown) => void closing.push(close),
    provider: () => provider,
    application: () => application,
    signInOptions: () => ({
      issuer: provider.issuer,
      clientId: CLIENT.id,
      clientSecret: CLIENT.secret,
      origin: application.origin,
      secret: 'x'.repeat(32),
      // The last of the accounts is nobody here.
      caller: (claims: Claims) => (claims['sub'] === '99' ? undefined : bySubject(claims)),
    }),
    storeOf: () => fixture.store,
    guardOf: () => createGuard({ rules, store: fixture.store, onDecision: () => undefined }),
  }
}
