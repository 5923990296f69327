import { expect } from 'chai'
import express from 'express'
import { createHandler } from 'pachter/http'
import { forExpress } from 'pachter/http/express'
import { createIdentity } from 'pachter/identity'
import { browserSignIn, sessionsInMemory } from 'pachter/identity/sign-in'
import { type caller, rules } from '../examples/allotment/rules.js'
import { surroundings } from './support/surroundings.js'
import { Visitor } from './support/visitor.js'

describe('signing in by browser', () => {
  const { provider, application, guardOf, signInOptions } = surroundings()

  const sessions = sessionsInMemory()

  before(async () => {
    const signIn = browserSignIn<typeof caller>({ ...signInOptions(), sessions })
    const identity = await createIdentity({ rules, sources: [signIn.source], onEvent: () => undefined })
    const handler = createHandler({ guard: guardOf(), identity, pages: { signInAt: signIn.signInAt } })
    const { records, pages, refuse } = forExpress(handler)
    application().server.on('request', express().use(records, pages(signIn.handle), refuse))
  })

  const at = (path: string) => `${application().origin}${path}`
  const page = { headers: { accept: 'text/html' } }
  const sessionOf = async (who: Visitor) =>
    (await (await who.go(at('/sign-in/session'))).response.json()) as { signedIn: boolean; token?: string }

  it('sends whoever asks for a page to sign in, and back to where they were', async () => {
    const dirk = new Visitor()
    const wanted = '/api/rents/1?$select=year'
    const chooser = await dirk.go(at(wanted), page)
    expect(chooser.url.origin).to.equal(provider().issuer)
    const body = new URLSearchParams({ account: '4' })
    const back = await dirk.go(chooser.url.href, { method: 'POST', body }, at('/api'))
    expect(back.url.href).to.equal(at(wanted))
    const { response } = await dirk.go(at(wanted))
    expect(await response.json()).to.deep.equal({ id: 1, year: 2026 })
    expect(await sessionOf(dirk)).to.include({ signedIn: true, name: 'Dirk Vermeer' })
  })

  it('tells whoever is nobody here so, instead of sending them round for ever', async () => {
    const zeno = new Visitor()
    const { response } = await zeno.signIn(at('/sign-in?to=/api/rents'), '99')
    expect([response.status, await response.text()]).to.satisfy(
      ([status, text]: [number, string]) => status === 401 && text.includes('you are not known here'),
    )
    expect(zeno.cookies.has('pachter-session')).to.equal(false)
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
    const long = `/api/plots?$filter=${'id eq 1 or '.repeat(80)}id eq 1`
    expect((await leadsTo(long)).href).to.equal(at(long).replaceAll(' ', '%20'))
    expect((await leadsTo(`${long} and (${'id eq 1 or '.repeat(160)}id eq 2)`)).pathname).to.equal('/')
    for (const to of [
      'https://elsewhere.example/',
      '//elsewhere.example',
      '/\\elsewhere.example',
      '/.//elsewhere.example',
      'x',
    ]) {
      expect((await leadsTo(to)).origin, to).to.equal(application().origin)
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
    await victim.go(at('/sign-in?to=/'), {}, provider().issuer)
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
    // A page elsewhere does not have the cookie sent, and is not to have it taken away.
    const elsewhere = { method: 'POST', headers: { 'sec-fetch-site': 'cross-site' } }
    expect((await new Visitor().go(at('/sign-in/out'), elsewhere)).response.status).to.equal(403)
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
