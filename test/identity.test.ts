import { generateKeyPairSync } from 'node:crypto'
import { createServer } from 'node:http'
import type { AddressInfo } from 'node:net'
import { expect } from 'chai'
import cookieSession from 'cookie-session'
import express from 'express'
import expressSession from 'express-session'
import { SignJWT } from 'jose'
import { createGuard, trusted } from 'pachter'
import { createHandler } from 'pachter/http'
import { forExpress } from 'pachter/http/express'
import {
  createIdentity,
  groupRoles,
  type IdentityEvent,
  memberRecord,
  notMine,
  remote,
  session,
  type Source,
  thisCaller,
} from 'pachter/identity'
import { browserSignIn } from 'pachter/identity/sign-in'
import { bearerToken } from 'pachter/identity/token'
import { createLive, followWrites } from 'pachter/live'
import { AUDIENCE, ELSEWHERE, startIdentityProvider } from '../examples/allotment/identity-provider.js'
import { type caller, rules } from '../examples/allotment/rules.js'
import { refusalOf } from './support/korenveld.js'
import { ACCOUNTS, asked, bySubject, surroundings } from './support/surroundings.js'
import { tokenFor, Visitor } from './support/visitor.js'

describe('identity', () => {
  const { listening, closes, provider, application, guardOf, storeOf, signInOptions } = surroundings()
  const bearing = (token: string) => asked({ authorization: `Bearer ${token}` })

  describe('by token', () => {
    const events: IdentityEvent[] = []
    const source = (issuer = provider().issuer, keepKeysSeconds = 600) =>
      bearerToken<typeof caller>({ issuer, audience: AUDIENCE, keepKeysSeconds, caller: bySubject })
    const identityOf = (...sources: readonly Source<typeof caller>[]) =>
      createIdentity({ rules, sources, onEvent: (event) => events.push(event) })
    const tokenOf = (account: string, audience = AUDIENCE) =>
      tokenFor(provider().issuer, application().origin, account, audience)

    it('knows who has one, and takes who has none for nobody', async () => {
      const identity = await identityOf(source())
      expect(await identity.callerOf(bearing(await tokenOf('4')))).to.deep.equal({ id: 4 })
      expect(await identity.callerOf(asked({}))).to.have.property('anonymous', true)
      expect(identity.challenge).to.equal('Bearer')
    })

    it('refuses what is forged, replayed elsewhere, cut or expired, and never makes nobody of it', async () => {
      const identity = await identityOf(source())
      const token = await tokenOf('4')
      const [head = '', body = '', signature = ''] = token.split('.')
      const decoded = (part: string) => JSON.parse(Buffer.from(part, 'base64url').toString()) as Record<string, unknown>
      const encoded = (part: object) => Buffer.from(JSON.stringify(part)).toString('base64url')
      const forged = generateKeyPairSync('rsa', { modulusLength: 2048 })
      const signed = (claims: object, key: Parameters<SignJWT['sign']>[0], alg: string) =>
        new SignJWT({ ...decoded(body), ...claims }).setProtectedHeader({ ...decoded(head), alg }).sign(key)
      const keys = (await (await fetch(`${provider().issuer}/jwks`)).json()) as { keys: { n: string }[] }
      const attacks: Record<string, string> = {
        'alg none': `${encoded({ ...decoded(head), alg: 'none' })}.${body}.`,
        'no signature': `${head}.${body}.`,
        truncated: token.slice(0, -12),
        'half a token': `${head}.${body}`,
        'another subject': `${head}.${encoded({ ...decoded(body), sub: '5' })}.${signature}`,
        'a key of somebody else': await signed({}, forged.privateKey, 'RS256'),
        // The public key as a secret, which everybody has.
        'the public key as a secret': await signed({}, Buffer.from(keys.keys[0]?.n ?? ''), 'HS256'),
        'another audience': await tokenOf('4', ELSEWHERE),
        'not a token': 'x',
        nothing: '',
        'two tokens': `${token} ${token}`,
        'a long one': 'x'.repeat(20_000),
        'of an issuer nobody knows': await signed({ iss: 'https://id.elsewhere.example' }, forged.privateKey, 'RS256'),
        'of no issuer': await signed({ iss: undefined }, forged.privateKey, 'RS256'),
      }
      for (const [name, attack] of Object.entries(attacks)) {
        const error = await refusalOf(identity.callerOf(bearing(attack)))
        expect(error, name).to.include({ status: 401, code: 'credentials-refused' })
        expect(error.message, name).to.equal('These credentials are not accepted; sign in again.')
      }
      expect(await refusalOf(identity.callerOf(asked({ authorization: 'Basic YTpi' })))).to.include({ status: 401 })
      expect(events.at(-1)).to.include({ kind: 'refused', source: 'authorization' })

      const brief = await startIdentityProvider(ACCOUNTS, application().origin, { tokenSeconds: 1 })
      closes(brief.close)
      const exact = bearerToken<typeof caller>({
        issuer: brief.issuer,
        audience: AUDIENCE,
        clockSeconds: 0,
        caller: bySubject,
      })
      // Of two issuers, each token goes to its own.
      const two = await identityOf(source(), exact)
      const soonOver = await tokenFor(brief.issuer, application().origin, '1', AUDIENCE)
      expect(await two.callerOf(bearing(token))).to.deep.equal({ id: 4 })
      await new Promise((resolve) => setTimeout(resolve, 2100))
      expect(await refusalOf(two.callerOf(bearing(soonOver)))).to.include({ status: 401 })
    })

    it('answers 503 while the provider is down, with new keys goes on without a restart', async () => {
      const first = await startIdentityProvider(ACCOUNTS, application().origin)
      const port = Number(new URL(first.issuer).port)
      const guard = guardOf()
      const identity = await identityOf(source(first.issuer, 1))
      const { handle } = createHandler({ guard, identity, onError: () => undefined })
      const token = await tokenFor(first.issuer, application().origin, '4', AUDIENCE)
      const status = async (given: string) => {
        const response = await handle(bearing(given))
        return [response.status, response.headers.get('retry-after')]
      }
      expect(await status(token)).to.deep.equal([200, null])
      await first.close()
      await new Promise((resolve) => setTimeout(resolve, 1100))
      expect(await status(token)).to.deep.equal([503, '5'])
      expect(events.at(-1)).to.include({ kind: 'unavailable' })
      const again = await startIdentityProvider(ACCOUNTS, application().origin, { port })
      closes(again.close)
      expect(await status(await tokenFor(again.issuer, application().origin, '4', AUDIENCE))).to.deep.equal([200, null])
      // What the old keys signed is over.
      expect(await status(token)).to.deep.equal([401, null])
    })

    it('refuses at the start what cannot work, in a line that says what', async () => {
      const at = (issuer: string) => identityOf(source(issuer))
      const { origin } = application()
      const plain = createServer((_, response) => response.end('{}'))
      await new Promise<void>((resolve) => plain.listen(0, '127.0.0.1', () => resolve()))
      closes(() => void plain.close())
      const wrong = `http://127.0.0.1:${(plain.address() as AddressInfo).port}`
      const keys = () =>
        identityOf(
          bearerToken<typeof caller>({
            issuer: provider().issuer,
            audience: 'x',
            keys: `${wrong}/keys`,
            caller: bySubject,
          }),
        )
      const told: [() => unknown, RegExp][] = [
        [() => at(''), /^issuer is missing; it must be an address/],
        [() => at('http://id.korenveld.example'), /must begin with https:/],
        [() => at('http://127.0.0.1:1'), /^The issuer cannot be read from .*fetch failed/],
        [() => at(wrong), /it calls itself undefined/],
        [keys, /^The keys of .* cannot be read from .*\/keys: /],
        [() => bearerToken<typeof caller>({ issuer: origin, audience: '', caller: bySubject }), /audience is missing/],
        [
          () => bearerToken<typeof caller>({ issuer: origin, audience: 'x', clockSeconds: 999, caller: bySubject }),
          /0 to 300/,
        ],
        [() => identityOf(), /No source says who asks/],
        [() => identityOf(session({ caller: () => undefined } as never)), /^session needs renew/],
        [() => remote<typeof caller>({ url: 'nowhere', caller: bySubject }), /^url is 'nowhere'/],
        [() => remote<typeof caller>({ url: origin, keepSeconds: 999, caller: bySubject }), /keepSeconds is 999/],
        [
          () => groupRoles(rules, { claim: 'groups', roles: { money: 'boss' as never } }),
          /money is to have the role boss, which is none of the rules': treasurer, secretary, auditor/,
        ],
        [
          () =>
            memberRecord(guardOf(), { table: 'members', field: 'name', claim: 'name', caller: ({ id }) => ({ id }) }),
          /members.name is neither the key nor unique/,
        ],
        [() => browserSignIn<typeof caller>({ ...signInOptions(), secret: 'short' }), /fewer than 32 characters/],
        [
          () => browserSignIn<typeof caller>({ ...signInOptions(), path: '//x' }),
          /must be a path that begins with one slash/,
        ],
        [() => createHandler({ guard: guardOf(), identity: {} as never, base: '/api/' }), /without a slash at its end/],
      ]
      for (const [work, message] of told) {
        const error = await refusalOf(Promise.resolve().then(work))
        expect(error.message).to.match(message)
        expect(error.code).to.be.oneOf(['identity-misconfigured', 'http-misconfigured'])
      }
    })

    it('makes nobody trusted, and refuses a caller the rules do not know', async () => {
      const of = (given: unknown) => identityOf({ name: 'odd', identify: () => thisCaller(given as never) })
      const error = await refusalOf((await of(trusted('by request'))).callerOf(asked({})))
      expect(error).to.include({ code: 'identity-misconfigured' })
      for (const given of [{ id: 'x' }, {}, { id: 1, roles: ['boss'] }, { trusted: 'x' }]) {
        expect(await refusalOf((await of(given)).callerOf(asked({})))).to.include({ status: 401 })
        expect(events.at(-1)).to.include({ kind: 'caller-invalid', source: 'odd' })
      }
    })
  })

  describe('by the application’s own session', () => {
    interface Mine {
      memberId?: number
      token?: string
    }
    const middlewares = {
      'express-session': expressSession({ secret: 'leeks', resave: false, saveUninitialized: false }),
      'cookie-session': cookieSession({ name: 'sid', keys: ['leeks'] }),
    }
    const sessionOf = (request: express.Request | undefined) =>
      (request as unknown as { session?: Mine | null } | undefined)?.session ?? {}
    const isThere = (request: express.Request) =>
      new Promise<boolean>((resolve) => request.session.reload((error) => resolve(!error)))

    for (const [name, middleware] of Object.entries(middlewares)) {
      it(`of ${name}, whose writes carry its token and come from its own pages`, async () => {
        const source = session<typeof caller, express.Request>({
          caller: ({ native }) => {
            const { memberId } = sessionOf(native)
            return memberId === undefined ? undefined : { id: memberId }
          },
          token: ({ native }) => sessionOf(native).token,
          // That of cookie-session is in the browser alone.
          renew: (native) => name === 'cookie-session' || isThere(native),
        })
        const identity = await createIdentity({ rules, sources: [source], onEvent: () => undefined })
        const store = followWrites(storeOf())
        const guard = createGuard({ rules, store, onDecision: () => undefined })
        const handler = createHandler({ guard, identity })
        const live = await createLive({ handler, store })
        const { records, pages, refuse } = forExpress(handler)
        const app = express().use(middleware)
        app.get('/enter/:id', (request, response) => {
          Object.assign(sessionOf(request), { memberId: Number(request.params.id), token: `t${request.params.id}` })
          response.end()
        })
        app.get('/leave', (request, response) => request.session.destroy(() => response.end()))
        app.use(records, pages(live.handle), refuse)
        const { server, origin } = await listening()
        server.on('request', app)
        const [ana, dirk] = [new Visitor(), new Visitor()]
        await ana.go(`${origin}/enter/1`)
        await dirk.go(`${origin}/enter/4`)
        const status = async (who: Visitor, path: string, init?: RequestInit) =>
          (await who.go(`${origin}/api/${path}`, init)).response.status
        expect(await status(new Visitor(), 'rents')).to.equal(401)
        expect(await status(ana, 'rents')).to.equal(200)
        const change = (headers: Record<string, string>): RequestInit => ({
          method: 'PATCH',
          headers: { 'content-type': 'application/json', ...headers },
          body: '{"phone":"0600"}',
        })
        const own = { 'x-csrf-token': 't1' }
        expect(await status(ana, 'members/1', change({}))).to.equal(403)
        expect(await status(ana, 'members/1', change({ 'x-csrf-token': 't4' }))).to.equal(403)
        expect(await status(ana, 'members/1', change({ ...own, 'sec-fetch-site': 'cross-site' }))).to.equal(403)
        expect(await status(ana, 'members/1', change({ ...own, 'sec-fetch-site': 'same-site' }))).to.equal(403)
        expect(await status(ana, 'members/1', change({ ...own, origin: 'https://elsewhere.example' }))).to.equal(403)
        expect(await status(ana, 'members/1', change({ ...own, origin: 'null' }))).to.equal(403)
        expect(await status(ana, 'members/1', change({ ...own, origin }))).to.equal(200)
        // What came with a request that lasts is over when the session is, also where something is written before anybody looked.
        if (name === 'express-session') {
          const eva = new Visitor()
          await eva.go(`${origin}/enter/5`)
          const { response } = await eva.go(`${origin}/live?list=${encodeURIComponent('/api/members?$top=3')}`)
          const events = (response.body as ReadableStream<Uint8Array>).pipeThrough(new TextDecoderStream() as never)
          const told: string[] = []
          for await (const text of events as unknown as AsyncIterable<string>) {
            told.push(...[...text.matchAll(/^event: (.+)$/gm)].map(([, event = '']) => event))
            if (told.length > 1) break
            if (told.length < 1) continue
            await eva.go(`${origin}/leave`)
            expect(await status(ana, 'members/1', { ...change(own), body: '{"phone":"0611"}' })).to.equal(200)
          }
          expect(told).to.deep.equal(['records', 'ended'])
        }
        await live.close()
        // A session that was swapped between two requests: the page still has the token of the other.
        ana.cookies.clear()
        for (const [cookie, value] of dirk.cookies) ana.cookies.set(cookie, value)
        expect(await status(ana, 'members/1', change(own))).to.equal(403)
        // A cookie somebody made up is nobody's.
        for (const cookie of ana.cookies.keys()) ana.cookies.set(cookie, 's%3Amade-up.signature')
        expect(await status(ana, 'rents')).to.equal(401)
      })
    }
  })

  it('takes a session in which nobody is any more for one that is over, and that of a visitor for none', async () => {
    const source = session<typeof caller, Map<string, number>>({
      caller: ({ native }) => (native?.has('id') ? { id: native.get('id') as number } : undefined),
      token: () => undefined,
      renew: (native) => native.delete('id'),
    })
    const { renew } = await createIdentity({ rules, sources: [source], onEvent: () => undefined })
    await renew(asked({}), new Map())
    expect(await refusalOf(renew(asked({}), new Map([['id', 1]])))).to.include({ status: 401 })
  })

  it('has a source of one’s own say not mine, this caller, or refused', async () => {
    const byKey: Source<typeof caller> = {
      name: 'key',
      identify: ({ request }) => {
        const key = request.headers.get('x-key')
        return key === null ? notMine : key === 'right' ? thisCaller({ id: 2 }) : { found: 'refused', reason: 'wrong' }
      },
    }
    const identity = await createIdentity({ rules, sources: [byKey], onEvent: () => undefined })
    expect(await identity.callerOf(asked({ 'x-key': 'right' }))).to.deep.equal({ id: 2 })
    expect(await refusalOf(identity.callerOf(asked({ 'x-key': 'wrong' })))).to.include({ status: 401 })
    expect(identity.challenge).to.equal('Session')
  })
})
