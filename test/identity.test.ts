import { generateKeyPairSync } from 'node:crypto'
import { createServer, type Server } from 'node:http'
import type { AddressInfo } from 'node:net'
import { expect } from 'chai'
import cookieSession from 'cookie-session'
import express from 'express'
import expressSession from 'express-session'
import { SignJWT } from 'jose'
import { createGuard, trusted } from 'pachter'
import { openFixture } from 'pachter/check'
import { createHandler } from 'pachter/http'
import { forExpress } from 'pachter/http/express'
import {
  type Claims,
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
import { browserSignIn, sessionsInMemory } from 'pachter/identity/sign-in'
import { bearerToken } from 'pachter/identity/token'
import type { SqlStore } from 'pachter/sql'
import {
  AUDIENCE,
  CLIENT,
  ELSEWHERE,
  type IdentityProvider,
  startIdentityProvider,
} from '../examples/allotment/identity-provider.js'
import { model } from '../examples/allotment/model.js'
import { type caller, rules } from '../examples/allotment/rules.js'
import { refusalOf } from './support/korenveld.js'
import { tokenFor, Visitor } from './support/visitor.js'

const ACCOUNTS = new Map([
  ['1', { name: 'Ana Brouwer', email: 'ana@korenveld.example' }],
  ['4', { name: 'Dirk Vermeer', email: 'dirk@korenveld.example', groups: ['money', 'choir'] }],
  ['99', { name: 'Zeno Castel', email: 'zeno@korenveld.example' }],
])

const bySubject = ({ sub }: Claims) => ({ id: Number(sub) })

describe('identity', () => {
  const closing: (() => Promise<unknown> | void)[] = []
  let store: SqlStore
  let provider: IdentityProvider
  let application: { readonly server: Server; readonly origin: string }

  before(async () => {
    store = (await openFixture(model, new URL('../examples/allotment/data/', import.meta.url), 'sqlite')).store
    application = await listening()
    provider = await startIdentityProvider(ACCOUNTS, application.origin)
    closing.push(provider.close)
  })
  after(async () => {
    for (const close of closing) await close()
    await store?.close?.()
  })

  async function listening() {
    const server = createServer()
    await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', () => resolve()))
    closing.push(() => {
      server.closeAllConnections()
      server.close()
    })
    return { server, origin: `http://127.0.0.1:${(server.address() as AddressInfo).port}` }
  }

  const guardOf = () => createGuard({ rules, store, onDecision: () => undefined })

  const asked = (headers: Record<string, string>, method = 'GET') =>
    new Request('http://localhost/api/rents', { method, headers })
  const bearing = (token: string) => asked({ authorization: `Bearer ${token}` })

  describe('by token', () => {
    const events: IdentityEvent[] = []
    const source = (issuer = provider.issuer, keepKeysSeconds = 600) =>
      bearerToken<typeof caller>({ issuer, audience: AUDIENCE, keepKeysSeconds, caller: bySubject })
    const identityOf = (...sources: readonly Source<typeof caller>[]) =>
      createIdentity({ rules, sources, onEvent: (event) => events.push(event) })
    const tokenOf = (account: string, audience = AUDIENCE) =>
      tokenFor(provider.issuer, application.origin, account, audience)

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
      const keys = (await (await fetch(`${provider.issuer}/jwks`)).json()) as { keys: { n: string }[] }
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

      const brief = await startIdentityProvider(ACCOUNTS, application.origin, { tokenSeconds: 1 })
      closing.push(brief.close)
      const exact = bearerToken<typeof caller>({
        issuer: brief.issuer,
        audience: AUDIENCE,
        clockSeconds: 0,
        caller: bySubject,
      })
      // Of two issuers, each token goes to its own.
      const two = await identityOf(source(), exact)
      const soonOver = await tokenFor(brief.issuer, application.origin, '1', AUDIENCE)
      expect(await two.callerOf(bearing(token))).to.deep.equal({ id: 4 })
      await new Promise((resolve) => setTimeout(resolve, 2100))
      expect(await refusalOf(two.callerOf(bearing(soonOver)))).to.include({ status: 401 })
    })

    it('answers 503 while the provider is down, with new keys goes on without a restart', async () => {
      const first = await startIdentityProvider(ACCOUNTS, application.origin)
      const port = Number(new URL(first.issuer).port)
      const guard = guardOf()
      const identity = await identityOf(source(first.issuer, 1))
      const { handle } = createHandler({ guard, identity, onError: () => undefined })
      const token = await tokenFor(first.issuer, application.origin, '4', AUDIENCE)
      const status = async (given: string) => {
        const response = await handle(bearing(given))
        return [response.status, response.headers.get('retry-after')]
      }
      expect(await status(token)).to.deep.equal([200, null])
      await first.close()
      await new Promise((resolve) => setTimeout(resolve, 1100))
      expect(await status(token)).to.deep.equal([503, '5'])
      expect(events.at(-1)).to.include({ kind: 'unavailable' })
      const again = await startIdentityProvider(ACCOUNTS, application.origin, { port })
      closing.push(again.close)
      expect(await status(await tokenFor(again.issuer, application.origin, '4', AUDIENCE))).to.deep.equal([200, null])
      // What the old keys signed is over.
      expect(await status(token)).to.deep.equal([401, null])
    })

    it('refuses at the start what cannot work, in a line that says what', async () => {
      const at = (issuer: string) => identityOf(source(issuer))
      const { origin } = application
      const plain = createServer((_, response) => response.end('{}'))
      await new Promise<void>((resolve) => plain.listen(0, '127.0.0.1', () => resolve()))
      closing.push(() => void plain.close())
      const wrong = `http://127.0.0.1:${(plain.address() as AddressInfo).port}`
      const keys = () =>
        identityOf(
          bearerToken<typeof caller>({
            issuer: provider.issuer,
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

  describe('by the caller’s own record', () => {
    const ignored = { note: () => undefined }
    const zeno = { email: 'zeno@korenveld.example', email_verified: true, name: 'Zeno Castel' }
    const member = (keepSeconds = 0) =>
      memberRecord(guardOf(), {
        table: 'members',
        field: 'email',
        claim: 'email',
        keepSeconds,
        caller: ({ id, name }) => (name === 'nobody' ? (undefined as never) : { id }),
        firstSignIn: ({ name }) => ({ name: String(name), duties: [], joinedAt: new Date() }),
      })

    it('finds it by an e-mail that was verified, and by nothing else', async () => {
      const ana = { email: 'ana@korenveld.example', email_verified: true }
      expect(await member()(ana, ignored)).to.deep.equal({ id: 1 })
      for (const claims of [
        { ...ana, email_verified: false },
        { email: ana.email },
        {},
        { ...ana, email: [ana.email] },
      ]) {
        expect(await member()(claims, ignored)).to.equal(undefined)
      }
    })

    it('makes it once on the first sign-in, also when many first requests come at a time, and never changes it', async () => {
      const events: IdentityEvent[] = []
      const heard = { note: (event: IdentityEvent) => events.push(event) }
      const all = await Promise.all(Array.from({ length: 20 }, () => member()(zeno, heard)))
      expect(new Set(all.map((each) => JSON.stringify(each)))).to.have.property('size', 1)
      expect(events).to.deep.equal([{ kind: 'record-created', table: 'members', key: all[0] }])
      const id = (all[0] as { id: number }).id
      const mine = guardOf().as(trusted('a test'))
      await mine.update('members', id, { name: 'Z. Castel', duties: ['treasurer'] })
      expect(await member()({ ...zeno, name: 'Another' }, ignored)).to.deep.equal({ id })
      expect(await mine.get('members', id)).to.deep.include({ name: 'Z. Castel', duties: ['treasurer'] })
    })

    it('keeps what it found for as long as was said', async () => {
      const kept = member(300)
      const mine = guardOf().as(trusted('a test'))
      const { id } = (await kept(zeno, ignored)) as { id: number }
      await mine.update('members', id, { name: 'nobody' })
      expect(await kept(zeno, ignored)).to.deep.equal({ id })
      expect(await member()(zeno, ignored)).to.equal(undefined)
    })

    it('gives groups their roles, and tells of those that have none, once each', () => {
      const events: IdentityEvent[] = []
      const heard = { note: (event: IdentityEvent) => events.push(event) }
      const roles = groupRoles(rules, {
        claim: 'groups',
        roles: { money: 'treasurer', board: ['secretary', 'auditor'] },
      })
      expect(roles({ groups: ['money', 'choir', 'board', 7, 'money'] }, heard)).to.deep.equal([
        'treasurer',
        'secretary',
        'auditor',
      ])
      expect(roles({ groups: ['choir', '__proto__', 'constructor'] }, heard)).to.deep.equal([])
      expect(roles({ groups: 'money' }, heard)).to.deep.equal(['treasurer'])
      expect(roles({}, heard)).to.deep.equal([])
      const told = ['choir', '__proto__', 'constructor'].map((group) => ({ kind: 'group-unknown', group }))
      expect(events).to.deep.equal(told)
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

    for (const [name, middleware] of Object.entries(middlewares)) {
      it(`of ${name}, whose writes carry its token and come from its own pages`, async () => {
        const source = session<typeof caller, express.Request>({
          caller: ({ native }) => {
            const { memberId } = sessionOf(native)
            return memberId === undefined ? undefined : { id: memberId }
          },
          token: ({ native }) => sessionOf(native).token,
        })
        const identity = await createIdentity({ rules, sources: [source], onEvent: () => undefined })
        const { records, refuse } = forExpress(createHandler({ guard: guardOf(), identity }))
        const app = express().use(middleware)
        app.get('/enter/:id', (request, response) => {
          Object.assign(sessionOf(request), { memberId: Number(request.params.id), token: `t${request.params.id}` })
          response.end()
        })
        app.use(records, refuse)
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

  describe('by another application', () => {
    it('asks it with the cookie or token, and refuses whatever is no clear yes', async () => {
      let requests = 0
      let answer: (token: string) => [status: number, body: string, wait?: number] = () => [200, '{}']
      const other = await listening()
      other.server.on('request', (request, response) => {
        requests += 1
        const [status, body, wait = 0] = answer(request.headers.cookie ?? request.headers.authorization ?? '')
        setTimeout(() => response.writeHead(status, status === 302 ? { location: '/' } : {}).end(body), wait)
      })
      const identityWith = (keepSeconds = 0) =>
        createIdentity({
          rules,
          onEvent: () => undefined,
          sources: [
            remote<typeof caller>({
              url: `${other.origin}/who`,
              cookies: ['sid'],
              authorization: true,
              timeoutSeconds: 0.2,
              keepSeconds,
              caller: ({ member }) => (member === undefined ? undefined : { id: Number(member) }),
            }),
          ],
        })
      const identity = await identityWith()
      const cookie = { cookie: 'theme=dark; sid=abc' }
      answer = (given) => (given === 'sid=abc' ? [200, '{"member":1}'] : [401, ''])
      expect(await identity.callerOf(asked(cookie))).to.deep.equal({ id: 1 })
      expect(await refusalOf(identity.callerOf(asked({ cookie: 'sid=made-up' })))).to.include({ status: 401 })
      expect(await refusalOf(identity.callerOf(asked({ authorization: 'Bearer x' })))).to.include({ status: 401 })
      const before = requests
      expect(await identity.callerOf(asked({ cookie: 'theme=dark' }))).to.have.property('anonymous')
      expect(requests, 'is not asked about nothing').to.equal(before)
      const forged = asked({ ...cookie, origin: 'https://elsewhere.example', host: 'localhost' }, 'POST')
      expect(await refusalOf(identity.callerOf(forged))).to.include({ status: 403, code: 'request-forged' })
      const doubts: [number, string, number?][] = [
        [200, '{}', 1000],
        [200, 'not json'],
        [200, '[1]'],
        [200, `{"a":"${'x'.repeat(70_000)}"}`],
        [204, ''],
        [302, ''],
        [500, ''],
      ]
      for (const doubt of doubts) {
        answer = () => doubt
        expect(await refusalOf(identity.callerOf(asked(cookie))), String(doubt)).to.include({ status: 503 })
      }
      answer = () => [200, '{"nobody":true}']
      expect(await refusalOf(identity.callerOf(asked(cookie)))).to.include({ status: 401 })
      const keeping = await identityWith(60)
      answer = () => [200, '{"member":2}']
      expect(await keeping.callerOf(asked(cookie))).to.deep.equal({ id: 2 })
      answer = () => [500, '']
      expect(await keeping.callerOf(asked(cookie))).to.deep.equal({ id: 2 })
      expect(await refusalOf(keeping.callerOf(asked({ cookie: 'sid=other' })))).to.include({ status: 503 })
    })
  })

  const signInOptions = () => ({
    issuer: provider.issuer,
    clientId: CLIENT.id,
    clientSecret: CLIENT.secret,
    origin: application.origin,
    secret: 'x'.repeat(32),
    caller: bySubject,
  })

  describe('by browser', () => {
    const sessions = sessionsInMemory()

    before(async () => {
      const signIn = browserSignIn<typeof caller>({ ...signInOptions(), sessions })
      const identity = await createIdentity({ rules, sources: [signIn.source], onEvent: () => undefined })
      const handler = createHandler({ guard: guardOf(), identity, pages: { signInAt: signIn.signInAt } })
      const { records, pages, refuse } = forExpress(handler)
      application.server.on('request', express().use(records, pages(signIn.handle), refuse))
    })

    const at = (path: string) => `${application.origin}${path}`
    const page = { headers: { accept: 'text/html' } }
    const sessionOf = async (who: Visitor) =>
      (await (await who.go(at('/sign-in/session'))).response.json()) as { signedIn: boolean; token?: string }

    it('sends whoever asks for a page to sign in, and back to where they were', async () => {
      const dirk = new Visitor()
      const wanted = '/api/rents/1?$select=year'
      const chooser = await dirk.go(at(wanted), page)
      expect(chooser.url.origin).to.equal(provider.issuer)
      const body = new URLSearchParams({ account: '4' })
      const back = await dirk.go(chooser.url.href, { method: 'POST', body }, at('/api'))
      expect(back.url.href).to.equal(at(wanted))
      const { response } = await dirk.go(at(wanted))
      expect(await response.json()).to.deep.equal({ id: 1, year: 2026 })
      expect(await sessionOf(dirk)).to.include({ signedIn: true, name: 'Dirk Vermeer' })
    })

    it('goes back to pages of its own and to no others', async () => {
      const leadsTo = async (to: string) => {
        const who = new Visitor()
        const { url } = await who.signIn(
          at(`/sign-in?${new URLSearchParams({ to }).toString()}`),
          '1',
          at('/sign-in/return'),
        )
        return (await who.go(url.href, {}, '')).url
      }
      expect((await leadsTo('/api/plots?$top=1')).href).to.equal(at('/api/plots?$top=1'))
      for (const to of [
        'https://elsewhere.example/',
        '//elsewhere.example',
        '/\\elsewhere.example',
        '/.//elsewhere.example',
        'x',
      ]) {
        expect((await leadsTo(to)).origin, to).to.equal(application.origin)
      }
    })

    it('begins a session under a new name each time, so that one planted before is worth nothing', async () => {
      const victim = new Visitor()
      victim.cookies.set('pachter-session', 'planted')
      await victim.signIn(at('/sign-in?to=/sign-in/session'), '1')
      const first = victim.cookies.get('pachter-session')
      expect(first).not.to.equal('planted')
      const thief = new Visitor()
      thief.cookies.set('pachter-session', 'planted')
      expect((await thief.go(at('/api/rents'))).response.status).to.equal(401)
      // Signing in again ends the session before it.
      const before = new Visitor()
      before.cookies.set('pachter-session', first ?? '')
      await victim.signIn(at('/sign-in?to=/sign-in/session'), '4').catch(() => undefined)
      await victim.go(at('/sign-in?to=/sign-in/session'))
      expect((await before.go(at('/api/rents'))).response.status).to.equal(401)
    })

    it('takes no answer of the provider that another browser asked for, nor one twice', async () => {
      const returning = at('/sign-in/return')
      const ana = new Visitor()
      const { url } = await ana.signIn(at('/sign-in?to=/'), '1', returning)
      // The answer for Ana, given to a browser that never asked, or asked for itself.
      const victim = new Visitor()
      expect((await victim.go(url.href)).response.status).to.equal(401)
      await victim.go(at('/sign-in?to=/'), {}, provider.issuer)
      expect((await victim.go(url.href)).response.status).to.equal(401)
      expect(victim.cookies.has('pachter-session')).to.equal(false)
      const pending = ana.cookies.get('pachter-sign-in') ?? ''
      expect((await ana.go(url.href, {}, at('/'))).response.status).to.equal(303)
      ana.cookies.set('pachter-sign-in', pending)
      const again = await ana.go(url.href)
      expect(again.response.status).to.equal(401)
      expect(await again.response.text()).to.match(/did not work.*Start again/s)
      ana.cookies.set('pachter-sign-in', `${pending.slice(0, -2)}xx`)
      expect((await ana.go(url.href)).response.status).to.equal(401)
    })

    it('takes writes with the session’s token only, and signs out for good', async () => {
      const ana = new Visitor()
      await ana.signIn(at('/sign-in?to=/sign-in/session'), '1')
      const { token = '' } = await sessionOf(ana)
      const change = async (headers: Record<string, string>) => {
        const init = {
          method: 'PATCH',
          headers: { 'content-type': 'application/json', ...headers },
          body: '{"phone":"0"}',
        }
        return (await ana.go(at('/api/members/1'), init)).response.status
      }
      expect(await change({})).to.equal(403)
      expect(await change({ 'x-csrf-token': `${token}x` })).to.equal(403)
      expect(await change({ 'x-csrf-token': token })).to.equal(200)
      const secret = ana.cookies.get('pachter-session') ?? ''
      const out = (headers: Record<string, string>) => ana.go(at('/sign-in/out'), { method: 'POST', headers })
      expect((await out({})).response.status).to.equal(403)
      const { response } = await out({ 'x-csrf-token': token })
      expect(((await response.json()) as { next: string }).next).to.match(/session\/end/)
      expect(await sessionOf(ana)).to.deep.equal({ signedIn: false })
      ana.cookies.set('pachter-session', secret)
      expect((await ana.go(at('/api/plots'))).response.status, 'a cookie that was kept').to.equal(401)
      // What is over is taken away, so that it is nobody again.
      await sessionOf(ana)
      expect((await ana.go(at('/api/plots'))).response.status).to.equal(200)
    })
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
