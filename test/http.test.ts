import { request as rawRequest } from 'node:http'
import { createServer } from 'node:http'
import type { AddressInfo } from 'node:net'
import { expect } from 'chai'
import express from 'express'
import fastify from 'fastify'
import pg from 'pg'
import { createGuard } from 'pachter'
import { openFixture } from 'pachter/check'
import { createHandler, requirements } from 'pachter/http'
import { forExpress } from 'pachter/http/express'
import { forFastify } from 'pachter/http/fastify'
import { createIdentity } from 'pachter/identity'
import { callers } from '../examples/allotment/callers.js'
import { readData } from '../examples/allotment/database.js'
import { model } from '../examples/allotment/model.js'
import { rules } from '../examples/allotment/rules.js'
import { load, openEngines } from './support/engines.js'
import { asking, byHeader, type CallerName, type Read, readAnswer } from './support/web.js'

const DATA = new URL('../examples/allotment/data/', import.meta.url)

describe('records over HTTP', () => {
  let fixture: Awaited<ReturnType<typeof openFixture>>
  let guard: ReturnType<typeof guardOf>
  let ask: ReturnType<typeof asking>
  const failures: unknown[] = []

  const guardOf = () => createGuard({ rules, store: fixture.store })
  const handlerOf = async () =>
    createHandler({
      guard,
      identity: await createIdentity({ rules, sources: [byHeader], onEvent: () => undefined }),
      refusalMilliseconds: 1,
      onError: (error) => failures.push(error),
      title: 'Korenveld',
    })

  before(async () => {
    fixture = await openFixture(model, DATA, 'sqlite')
    guard = guardOf()
    ask = asking((await handlerOf()).handle)
  })
  beforeEach(() => fixture.begin())
  afterEach(async () => {
    await fixture.undo()
    expect(failures.splice(0), 'nothing failed').to.deep.equal([])
  })
  after(() => fixture?.close())

  const detailOf = async (...asked: Parameters<typeof ask>) => {
    const { status, json } = await ask(...asked)
    return `${status} ${String(json['detail'])}`
  }
  const entry = { plotId: 1, audience: 'private', title: 'Beans', body: 'Up.' }

  describe('is attacked by hand', () => {
    it('with somebody else’s id in the body, and with fields nobody may send', async () => {
      expect(await detailOf('ana', 'POST', '/entries', { ...entry, authorId: 2 })).to.match(
        /^403 .*authorId is set by the server/,
      )
      expect(await detailOf('ana', 'PATCH', '/members/1', { duties: ['secretary'] })).to.match(/^403 .*duties/)
      expect(await detailOf('ana', 'PATCH', '/entries/1', { id: 7 })).to.match(/^403 .*never changes/)
      const extra = await ask('ana', 'PATCH', '/entries/1', { title: 'x', isAdmin: true, 'a/b~c': 1 })
      expect(extra.status).to.equal(422)
      expect(extra.json['errors']).to.deep.include.members([
        { pointer: '#/isAdmin', detail: 'is not a field of entries' },
        { pointer: '#/a~1b~0c', detail: 'is not a field of entries' },
      ])
      // Nothing of it was done.
      expect((await ask('ana', 'GET', '/entries/1')).json['title']).to.equal('First leeks in')
    })

    it('by another method than was sent, or with a key in odd forms', async () => {
      for (const name of ['x-http-method-override', 'x-method-override', 'x-http-method']) {
        expect((await ask('ana', 'POST', '/entries', entry, { [name]: 'DELETE' })).status).to.equal(201)
      }
      expect((await ask('ana', 'GET', '/entries/1?_method=DELETE')).status).to.equal(400)
      expect((await ask('ana', 'PUT', '/entries/1', entry)).status).to.equal(405)
      const odd = [
        '01',
        '1.0',
        '1e0',
        '+1',
        '%31%20',
        ' 1',
        '1,1',
        '0x1',
        'NaN',
        '-1',
        '1%00',
        '__proto__',
        '%',
        '1;--',
      ]
      for (const key of odd) {
        const read = await ask('ana', 'GET', `/entries/${key.includes('%') ? key : encodeURIComponent(key)}`)
        expect([read.status, read.json['detail']], key).to.deep.equal([404, 'There is no such record in entries.'])
      }
      for (const path of [
        '/entries/1/',
        '/entries//1',
        '/entries/1/publish',
        '/constructor',
        '/__proto__/1',
        '/entries/../x',
      ]) {
        expect((await ask('ana', 'GET', path)).status, path).to.be.oneOf([404, 405])
      }
      for (const query of [
        'id[]=1',
        'id=1',
        '$top=1&$top=2',
        '$top=1&%24top=2',
        'where[title]=x',
        '$where=1',
        'access=1',
      ]) {
        expect((await ask('ana', 'GET', `/entries?${query}`)).status, query).to.equal(400)
      }
    })

    it('with JSON that has two readings, is no object, is too large or too deep, or is none', async () => {
      const bad: Record<string, number> = {
        '{"title":"a","title":"b"}': 400,
        '{"title":"a","\\u0074itle":"b"}': 400,
        '{"a":{"x":1,"x":2}}': 400,
        '[]': 400,
        null: 400,
        '"title"': 400,
        '{"title":': 400,
        '': 400,
        [`{"a":${'['.repeat(100)}${']'.repeat(100)}}`]: 400,
        [`{"a":${'['.repeat(100_000)}${']'.repeat(100_000)}}`]: 400,
        [`{"title":"${'x'.repeat(2 ** 20)}"}`]: 413,
        '{"__proto__":{"title":"x"}}': 422,
        '{"constructor":{"prototype":{}}}': 422,
        '{"title":{"$gt":""}}': 422,
        '{"title":["a"]}': 422,
        '{"title":1}': 422,
        '{"title":null}': 422,
      }
      for (const [body, status] of Object.entries(bad)) {
        expect((await ask('ana', 'PATCH', '/entries/1', body)).status, body.slice(0, 60)).to.equal(status)
      }
      expect(({} as Record<string, unknown>)['title']).to.equal(undefined)
      for (const type of [
        'text/plain',
        'application/x-www-form-urlencoded',
        'multipart/form-data',
        '',
        'application/jsonx',
      ]) {
        const read = await ask('ana', 'PATCH', '/entries/1', { title: 'x' }, { 'content-type': type })
        expect([read.status, read.headers['accept-patch']], type).to.deep.equal([
          415,
          'application/merge-patch+json, application/json',
        ])
      }
      const packed = { 'content-encoding': 'gzip' }
      expect((await ask('ana', 'PATCH', '/entries/1', { title: 'x' }, packed)).status).to.equal(415)
    })

    it('by filters and orders on what is hidden, which come out as if it were missing', async () => {
      const ids = async (name: CallerName, query: string) => {
        const { status, json } = await ask(name, 'GET', `/members?$select=id&$top=100&${query}`)
        return status === 200 ? (json['records'] as { id: number }[]).map(({ id }) => id) : status
      }
      expect(await ids('eva', "$filter=startswith(email,'ana')")).to.deep.equal([1])
      expect(await ids('ben', "$filter=startswith(email,'ana')")).to.deep.equal([])
      expect(
        await ids('ben', "$filter=email eq 'ana@korenveld.example' or email eq 'ben@korenveld.example'"),
      ).to.deep.equal([2])
      expect(await ids('ben', "$filter=duties/any(d: d eq 'treasurer')")).to.deep.equal([])
      // All but his own are missing, and so come first, in the order of their keys.
      const byMail = (await ids('ben', '$orderby=email')) as number[]
      expect(byMail).to.deep.equal([1, ...Array.from({ length: 23 }, (_, at) => at + 3), 2])
      // Nor by way of other records.
      expect(await ids('ben', '$filter=rents/any(r: r/amountCents gt 0)')).to.deep.equal(
        await ids('ben', '$filter=id eq 2'),
      )
      // Whoever may list nothing is not told what there is to ask.
      for (const query of ["$filter=secret eq 'x'", '$orderby=nope', "$filter=status eq 'no such'"]) {
        const read = await ask('nobody', 'GET', `/applications?${query}`)
        expect([read.status, read.text.includes('waiting')], query).to.deep.equal([401, false])
      }
    })

    it('by pages past the end, made-up links, huge pages, and filters that are deep or wide', async () => {
      const link = (value: unknown) => Buffer.from(JSON.stringify(value)).toString('base64url')
      expect((await ask('ana', 'GET', `/entries?$skiptoken=${link([999999])}`)).json).to.deep.equal({ records: [] })
      const made = [link(['x']), link([1, 2]), link({ id: 1 }), link([{}]), link([1e99]), 'x', '', '%00', link([null])]
      for (const token of made) {
        expect((await ask('ana', 'GET', `/entries?$skiptoken=${token}`)).status, token).to.be.oneOf([400, 422])
      }
      // A place that a hidden record has tells nothing of it.
      expect((await ask('ben', 'GET', `/entries?$skiptoken=${link([45])}`)).json).to.deep.equal({ records: [] })
      for (const top of ['0', '-1', '201', '1e3', '99999999999999999999', 'all', '1.5', '']) {
        expect((await ask('ana', 'GET', `/entries?$top=${top}`)).status, top).to.equal(400)
      }
      const wide = Array.from({ length: 200 }, () => 'id eq 1').join(' or ')
      const deep = `${'('.repeat(40)}id eq 1${')'.repeat(40)}`
      const many = `id in (${Array.from({ length: 200 }, (_, at) => at).join(',')})`
      for (const filter of [wide, deep, many, `${'not '.repeat(40)}id eq 1`]) {
        const read = await ask('ana', 'GET', `/entries?$filter=${encodeURIComponent(filter)}`)
        expect([read.status, String(read.json['detail'])], filter).to.satisfy(
          ([status, detail]: [number, string]) => status === 400 && /at most/.test(detail),
        )
      }
      const long = "title eq '".padEnd(9000, 'x')
      expect((await ask('ana', 'GET', `/entries?$filter=${long}`)).status).to.equal(414)
      const nested = 'plot($expand=site($expand=plots($expand=entries($expand=remarks))))'
      expect((await ask('ana', 'GET', `/entries?$expand=${nested}`)).status).to.equal(400)
    })

    it('with a stale ETag, which changes nothing, and tells nobody who may not change it', async () => {
      const { headers } = await ask('ana', 'GET', '/entries/3')
      const match = { 'if-match': headers['etag'] as string }
      expect((await ask('ben', 'PATCH', '/entries/3', { title: 'Frost' }, match)).status).to.equal(200)
      expect((await ask('ana', 'PATCH', '/entries/3', { title: 'Sun' }, match)).status).to.equal(412)
      expect((await ask('ana', 'DELETE', '/entries/3', undefined, match)).status).to.equal(412)
      expect((await ask('carla', 'PATCH', '/entries/1', { title: 'x' }, match)).status).to.equal(404)
      expect((await ask('ben', 'PATCH', '/entries/2', { title: 'x' }, match)).status).to.equal(403)
      expect((await ask('ana', 'GET', '/entries/3')).json['title']).to.equal('Frost')
      // A weak tag is no mark of what exactly is there.
      const now = (await ask('ana', 'GET', '/entries/3')).headers['etag'] as string
      expect((await ask('ana', 'DELETE', '/entries/3', undefined, { 'if-match': `W/${now}` })).status).to.equal(412)
      expect(
        (await ask('ana', 'PATCH', '/entries/3', { title: 'Sun' }, { 'if-match': `"x", ${now}` })).status,
      ).to.equal(200)
      const last = (await ask('ana', 'GET', '/entries/3')).headers['etag'] as string
      for (const tag of [last, `W/${last}`, `"x", ${last}`, '*']) {
        const read = await ask('ana', 'GET', '/entries/3', undefined, { 'if-none-match': tag })
        expect([read.status, read.text], tag).to.deep.equal([304, ''])
      }
    })

    it('by creating the same again and again, which creates it once, for whoever did', async () => {
      const key = { 'idempotency-key': 'first' }
      const first = await ask('ana', 'POST', '/entries', entry, key)
      const again = await ask('ana', 'POST', '/entries', entry, key)
      expect([first.status, again.status]).to.deep.equal([201, 201])
      expect(again.headers['location']).to.equal(first.headers['location'])
      expect(again.json).to.deep.equal(first.json)
      expect((await ask('ana', 'POST', '/entries', { ...entry, title: 'Peas' }, key)).status).to.equal(422)
      expect((await ask('nobody', 'POST', '/entries', entry, key)).status).to.equal(400)
      const bens = await ask('ben', 'POST', '/entries', { ...entry, plotId: 14 }, key)
      expect(bens.headers['location']).not.to.equal(first.headers['location'])
      // What was refused can be sent again, put right.
      const wrong = { 'idempotency-key': 'wrong' }
      expect((await ask('ana', 'POST', '/entries', { ...entry, title: '' }, wrong)).status).to.equal(422)
      expect((await ask('ana', 'POST', '/entries', entry, wrong)).status).to.equal(201)
      const both = ['x', 'x'].map((each) => ask('ana', 'POST', '/entries', entry, { 'idempotency-key': each }))
      const statuses = (await Promise.all(both)).map(({ status }) => status)
      expect(statuses.sort()).to.satisfy(([one, other]: number[]) => one === 201 && [201, 409].includes(other ?? 0))
    })

    it('while roles change as a request waits: what counts is what is so when it is done', async function () {
      const engine = (await openEngines()).find(({ name }) => name === 'PostgreSQL')
      if (!engine?.url) return this.skip()
      await load(engine, model, await readData())
      const other = new pg.Client({ connectionString: engine.url })
      await other.connect()
      const identity = await createIdentity({ rules, sources: [byHeader] })
      const on = asking(createHandler({ guard: createGuard({ rules, store: engine.store }), identity }).handle)
      const waits = async (name: CallerName, key: number, duties: readonly string[]): Promise<Read> => {
        await other.query('BEGIN')
        await other.query('UPDATE rents SET "amountCents" = "amountCents" WHERE id = $1', [key])
        const answer = on(name, 'DELETE', `/rents/${key}`)
        for (let waiting = 0; waiting === 0;) {
          const { rows } = await other.query<{ n: number }>(
            `SELECT count(*)::int AS n FROM pg_stat_activity WHERE wait_event_type = 'Lock'`,
          )
          waiting = rows[0]?.n ?? 0
        }
        await other.query('UPDATE members SET duties = $1 WHERE id = $2', [duties, callers[name as 'ana'].id])
        await other.query('COMMIT')
        return answer
      }
      try {
        // The treasurer comes with that role by the session; here it is the record's that counts.
        const ana = callers.ana.id
        await other.query('UPDATE members SET duties = $1 WHERE id = $2', [['treasurer'], ana])
        expect((await waits('ana', 1, [])).status, 'a role that was taken').to.equal(403)
        expect((await waits('ana', 1, ['treasurer'])).status, 'a role that was given').to.equal(204)
      } finally {
        await other.end()
      }
    })
  })

  it('says who may do what, in answers that nobody else is given', async () => {
    const read = await ask('ana', 'GET', '/entries/1?access=true&$expand=plot($select=number),remarks($top=1)')
    expect(read.json).to.deep.include({ plot: { id: 1, number: 'M01' } })
    expect(read.headers).to.include({ 'cache-control': 'private, no-cache', 'x-content-type-options': 'nosniff' })
    expect(read.headers['vary']).to.match(/Authorization, Cookie/)
    const head = await ask('ana', 'HEAD', '/entries/1')
    expect([head.status, head.text, head.headers['etag']]).to.deep.equal([
      200,
      '',
      (await ask('ana', 'GET', '/entries/1')).headers['etag'],
    ])
    expect((await ask('nobody', 'OPTIONS', '/rents/1/settle')).headers['allow']).to.equal('POST, OPTIONS')
    const minimal = { prefer: 'respond-async, return=minimal' }
    const made = await ask('ana', 'POST', '/entries', entry, minimal)
    expect([made.status, made.text, made.headers['preference-applied']]).to.deep.equal([201, '', 'return=minimal'])
    expect((await ask('ana', 'PATCH', '/entries/1', { title: 'x' }, minimal)).status).to.equal(204)
  })

  it('filters by the grammar of the docs, as the same conditions do', async () => {
    const ids = async (filter: string) => {
      const read = await ask('eva', 'GET', `/members?$select=id&$top=100&$filter=${encodeURIComponent(filter)}`)
      expect(read.status, `${filter}: ${read.text}`).to.equal(200)
      return (read.json['records'] as { id: number }[]).map(({ id }) => id)
    }
    expect(await ids("name eq 'Ana Brouwer'")).to.deep.equal([1])
    expect(await ids("name eq 'O''Hara'")).to.deep.equal([])
    expect(await ids('id in (3, 1,2) and not (id eq 2)')).to.deep.equal([1, 3])
    expect(await ids('id le 2 or id ge 25')).to.deep.equal([1, 2, 25])
    expect(await ids('id lt 3 and phone ne null')).to.deep.equal([1, 2])
    expect(await ids('phone eq null')).to.deep.equal([4, 8, 12, 16, 20, 24])
    expect(await ids('joinedAt gt 2026-01-01T00:00:00Z')).to.deep.equal([25])
    expect(await ids("duties/any(d: d eq 'treasurer')")).to.deep.equal([4])
    expect(await ids("applications/any(a: a/site/name ne null and a/status eq 'waiting') and id gt 0")).not.to.equal([])
    expect(await ids('plots/all(p: p/areaM2 gt 0) and plots/any()')).to.include(1)
    const wrong = [
      'id',
      'id eq',
      "id eq 'a",
      'id eq x',
      'id eq 1 1',
      'name gt 1',
      '(id eq 1',
      'duties eq 1',
      'may eq 1',
      'id/x eq 1',
    ]
    for (const filter of wrong) {
      const read = await ask('eva', 'GET', `/members?$filter=${encodeURIComponent(filter)}`)
      expect([read.status, String(read.json['detail'])], filter).to.satisfy(
        ([status, detail]: [number, string]) =>
          status === 400 && detail.startsWith('$filter cannot be read at character'),
      )
    }
  })

  it('pages through any order, also by what is hidden or left out of the answer', async () => {
    const walk = async (name: CallerName, query: string) => {
      const found: Record<string, unknown>[] = []
      for (let next: string | undefined = `/members?$top=4&${query}`; next;) {
        const { json }: Read = await ask(name, 'GET', next)
        found.push(...(json['records'] as Record<string, unknown>[]))
        next = (json['next'] as string | undefined)?.replace('/api', '')
      }
      return found
    }
    for (const order of ['phone', 'phone desc', 'joinedAt desc,name', 'email', 'name desc,id desc']) {
      const all = (await ask('ben', 'GET', `/members?$top=100&$select=name&$orderby=${order}`)).json['records']
      expect(await walk('ben', `$select=name&$orderby=${order}`), order).to.deep.equal(all)
    }
  })

  it('writes many at a time, all or none, or says which', async () => {
    const bulk = (name: CallerName, body: object) => ask(name, 'POST', '/entries/$bulk', body)
    const none = await bulk('ana', { action: 'delete', keys: [1, 7, 45] })
    expect([none.status, none.json['records']]).to.deep.equal([
      404,
      [{ key: 7, status: 404, detail: 'There is no such record in entries.' }],
    ])
    const some = await bulk('ana', { action: 'delete', keys: ['1', 7], partly: true })
    expect(some.json).to.deep.include({
      refused: [{ key: 7, status: 404, detail: 'There is no such record in entries.' }],
    })
    expect((await ask('ana', 'GET', '/entries/1')).status).to.equal(404)
    const made = await bulk('ana', { action: 'create', records: [entry, entry] })
    expect(made.json['written']).to.have.length(2)
    const odd = [
      {},
      { action: 'create' },
      { action: 'update', records: [] },
      { action: 'delete', keys: 1 },
      { action: 1 },
    ]
    for (const body of odd) expect((await bulk('ana', body)).status, JSON.stringify(body)).to.equal(400)
    expect((await bulk('ana', { action: 'delete', keys: ['x'] })).status).to.equal(422)
    expect((await bulk('ana', { action: 'nope', keys: [1] })).status).to.equal(400)
  })

  it('answers a browser that asks for a page with one, and hides what failed from everybody', async () => {
    const identity = await createIdentity({ rules, sources: [byHeader] })
    const pages = { signInAt: (to: string) => `/sign-in?${new URLSearchParams({ to }).toString()}` }
    const page = { accept: 'text/html,application/xhtml+xml,*/*;q=0.8' }
    const to = asking(createHandler({ guard, identity, pages }).handle)
    const redirected = await to('nobody', 'GET', '/rents/1?access=true', undefined, page)
    expect([redirected.status, redirected.headers['location']]).to.deep.equal([
      303,
      '/sign-in?to=%2Fapi%2Frents%2F1%3Faccess%3Dtrue',
    ])
    expect((await to('nobody', 'DELETE', '/rents/1', undefined, page)).status).to.equal(401)
    const hidden = await to('ben', 'GET', '/rents/1', undefined, page)
    expect([hidden.status, hidden.headers['content-type']]).to.deep.equal([404, 'text/html; charset=utf-8'])
    expect(hidden.text).to.match(/<h1>Not found<\/h1>/)
    const heard: unknown[] = []
    const broken = { ...fixture.store, query: () => Promise.reject(new Error('password=leeks')) }
    const failing = createHandler({
      guard: createGuard({ rules, store: { ...guard, ...broken } as never }),
      identity,
      onError: (error) => heard.push(error),
    })
    const failed = await asking(failing.handle)('ana', 'GET', '/plots')
    expect([failed.status, failed.json['detail']]).to.deep.equal([500, 'Something went wrong on the server.'])
    expect(failed.text).not.to.match(/leeks/)
    expect(heard).to.have.length(1)
  })

  describe('through a server', () => {
    type Korenveld = Awaited<ReturnType<typeof handlerOf>>
    const servers: Record<string, (handler: Korenveld) => Promise<{ origin: string; close: () => unknown }>> = {
      'Express 5': async (handler) => {
        const { may, role, signedIn } = requirements(handler)
        const { records, open, of, refuse } = forExpress(handler)
        const app = express().use(records)
        const told = (request: express.Request) => of(request).record ?? null
        app.get('/desk/:id', open(may('update', 'entries', 'id')), (request, response) => response.json(told(request)))
        app.get('/mine', open(signedIn()), async (request, response) => {
          response.json(await of(request).store.count('rents'))
        })
        app.post('/close', express.json(), open(role('treasurer')), (request, response) => response.json(request.body))
        app.use(refuse)
        const server = createServer(app)
        await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', () => resolve()))
        return { origin: `http://127.0.0.1:${(server.address() as AddressInfo).port}`, close: () => server.close() }
      },
      'Fastify 5': async (handler) => {
        const { may, role, signedIn } = requirements(handler)
        const { records, open, of, refuse } = forFastify(handler)
        const app = fastify()
        app.setErrorHandler(refuse)
        await app.register(records)
        app.get('/desk/:id', { preHandler: open(may('update', 'entries', 'id')) }, (request, reply) =>
          reply.send(of(request).record),
        )
        app.get('/mine', { preHandler: open(signedIn()) }, async (request) => of(request).store.count('rents'))
        app.post('/close', { preHandler: open(role('treasurer')) }, (request, reply) => reply.send(request.body))
        return { origin: await app.listen({ port: 0, host: '127.0.0.1' }), close: () => app.close() }
      },
    }

    for (const [name, start] of Object.entries(servers)) {
      it(`of ${name}: the same answers, and routes of one’s own behind what they require`, async () => {
        const handler = await handlerOf()
        const { origin, close } = await start(handler)
        const over = asking((request) => {
          const { pathname, search } = new URL(request.url)
          const init = {
            method: request.method,
            headers: request.headers,
            body: request.body,
            duplex: 'half',
          } as RequestInit
          return fetch(`${origin}${pathname}${search}`, init)
        })
        try {
          const bare = ({ status, text, headers: { etag, vary, location, allow } }: Read) => ({
            status,
            text,
            etag,
            vary,
            location,
            allow,
          })
          const asked: Parameters<typeof ask>[] = [
            ['ana', 'GET', '/entries?$top=3&$orderby=createdAt desc'],
            ['ana', 'HEAD', '/entries/1'],
            ['nobody', 'GET', '/rents/1'],
            ['ben', 'GET', '/rents/1'],
            ['ana', 'PATCH', '/entries/1', { title: 'Ünïcode ☘' }],
            ['ana', 'PATCH', '/entries/1', '{"title":"a","title":"b"}'],
            ['ana', 'POST', '/entries/1', {}],
            ['ana', 'DELETE', '/entries/1'],
            ['ana', 'GET', '/nowhere'],
          ]
          for (const each of asked) {
            const [served, handled] = [await over(...each), await ask(...each)]
            // What was removed is not there the second time.
            if (each[1] === 'DELETE') expect([served.status, handled.status]).to.deep.equal([204, 404])
            else expect(bare(served), each.join(' ')).to.deep.equal(bare(handled))
          }
          const own = async (who: CallerName, path: string, init: RequestInit = {}) =>
            readAnswer(
              await fetch(`${origin}${path}`, { ...init, headers: { 'x-caller': who, ...(init.headers as object) } }),
            )
          expect((await own('ana', '/desk/2')).json).to.deep.include({ id: 2 })
          expect((await own('ben', '/desk/2')).json).to.include({
            status: 403,
            detail: 'You may not update this record of entries.',
          })
          expect((await own('ben', '/desk/45')).json).to.include({ status: 404 })
          expect((await own('ben', '/desk/x')).json).to.include({ status: 404 })
          expect((await own('nobody', '/mine')).json).to.include({ status: 401 })
          expect((await own('ana', '/mine')).text).to.equal('2')
          const closing = { method: 'POST', headers: { 'content-type': 'application/json' }, body: '{"a":1}' }
          expect((await own('dirk', '/close', closing)).json).to.deep.equal({ a: 1 })
          expect((await own('ana', '/close', closing)).json).to.include({ status: 403 })
          const huge = await new Promise<number | undefined>((resolve) => {
            const sent = rawRequest(`${origin}/api/plots`, {
              headers: { 'x-caller': 'ana', authorization: 'x'.repeat(40_000) },
            })
            sent.on('response', (response) => resolve(response.statusCode)).on('error', () => resolve(431))
            sent.end()
          })
          expect(huge).to.equal(431)
        } finally {
          await close()
        }
      })
    }
  })
})
