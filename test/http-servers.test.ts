import { once } from 'node:events'
import { createServer, request as rawRequest } from 'node:http'
import { connect } from 'node:http2'
import type { AddressInfo } from 'node:net'
import Database from 'better-sqlite3'
import { expect } from 'chai'
import express from 'express'
import fastify, { type FastifyInstance } from 'fastify'
import { createGuard, defineCaller, defineModel, defineRules, integer, text } from 'pachter'
import { sqliteStore } from 'pachter/connect/sqlite'
import { createHandler, requirements } from 'pachter/http'
import { forExpress } from 'pachter/http/express'
import { forFastify } from 'pachter/http/fastify'
import { createIdentity, notMine } from 'pachter/identity'
import { asking, type CallerName, type Read, readAnswer, serving } from './support/web.js'

interface Running {
  readonly origin: string
  readonly close: () => unknown
  readonly send: typeof fetch
}

async function overHttp2(...asked: Parameters<typeof fetch>): Promise<Response> {
  const request = new Request(...asked)
  const { method, headers } = request
  const { origin, pathname, search } = new URL(request.url)
  const client = connect(origin)
  try {
    const path = `${pathname}${search}`
    const stream = client.request(
      { ':method': method, ':path': path, ...Object.fromEntries(headers) },
      { endStream: !request.body },
    )
    if (request.body) stream.end(Buffer.from(await request.arrayBuffer()))
    const [{ ':status': status, ...told }] = (await once(stream, 'response')) as [Record<string, string>]
    const body = Buffer.concat((await stream.toArray()) as Buffer[])
    return new Response(body.length > 0 ? body : null, {
      status: Number(status),
      headers: Object.entries(told) as [string, string][],
    })
  } finally {
    client.close()
  }
}

describe('records over HTTP, through a server', () => {
  const { ask, handlerOf } = serving()

  type Korenveld = Awaited<ReturnType<typeof handlerOf>>
  const servers: Record<string, (handler: Korenveld) => Promise<Running>> = {
    'Express 5': async (handler) => {
      const { may, role, signedIn } = requirements(handler)
      const { records, open, of, refuse } = forExpress(handler)
      const app = express()
      app.use((_request, response, next) => {
        response.setHeader('vary', 'Origin')
        response.setHeader('set-cookie', 'seen=1')
        next()
      })
      app.use(records)
      const told = (request: express.Request) => of(request).record ?? null
      app.get('/desk/:id', open(may('update', 'entries', 'id')), (request, response) => response.json(told(request)))
      app.get('/mine', open(signedIn()), async (request, response) => {
        response.json(await of(request).store.count('rents'))
      })
      app.post('/close', express.json(), open(role('treasurer')), (request, response) => response.json(request.body))
      app.use(refuse)
      const server = createServer(app)
      await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', () => resolve()))
      return {
        origin: `http://127.0.0.1:${(server.address() as AddressInfo).port}`,
        close: () => server.close(),
        send: fetch,
      }
    },
    'Fastify 5': (handler) => fastifyOf(handler, fastify()),
    // Its types are those of another protocol, its ways the same.
    'Fastify 5, by HTTP/2': (handler) =>
      fastifyOf(handler, fastify({ http2: true }) as unknown as FastifyInstance, overHttp2),
  }

  async function fastifyOf(handler: Korenveld, app: FastifyInstance, send = fetch): Promise<Running> {
    const { may, role, signedIn } = requirements(handler)
    const { records, open, of, refuse } = forFastify(handler)
    app.setErrorHandler(refuse)
    app.addHook('onRequest', async (_request, reply) => void reply.header('vary', 'Origin'))
    app.addHook('onSend', async (_request, reply) => void reply.header('set-cookie', 'seen=1'))
    await app.register(records)
    app.get('/desk/:id', { preHandler: open(may('update', 'entries', 'id')) }, (request, reply) =>
      reply.send(of(request).record),
    )
    app.get('/mine', { preHandler: open(signedIn()) }, async (request) => of(request).store.count('rents'))
    app.post('/close', { preHandler: open(role('treasurer')) }, (request, reply) => reply.send(request.body))
    return { origin: await app.listen({ port: 0, host: '127.0.0.1' }), close: () => app.close(), send }
  }

  for (const [name, start] of Object.entries(servers)) {
    it(`of ${name}: the same answers, and routes of one’s own behind what they require`, async () => {
      const handler = await handlerOf()
      const { origin, close, send } = await start(handler)
      const over = asking((request) => {
        const { pathname, search } = new URL(request.url)
        const init = {
          method: request.method,
          headers: request.headers,
          body: request.body,
          duplex: 'half',
        } as RequestInit
        return send(`${origin}${pathname}${search}`, init)
      })
      try {
        const bare = ({ status, text, headers: { etag, vary, location, allow } }: Read) => ({
          status,
          text,
          etag,
          vary: vary?.replace('Origin, ', ''),
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
          const { vary = '', 'set-cookie': cookies } = served.headers
          expect([cookies, vary.split(', ')[0]], 'what the server itself says').to.deep.equal(['seen=1', 'Origin'])
          // What was removed is not there the second time.
          if (each[1] === 'DELETE') expect([served.status, handled.status]).to.deep.equal([204, 404])
          else expect(bare(served), each.join(' ')).to.deep.equal(bare(handled))
        }
        const own = async (who: CallerName, path: string, init: RequestInit = {}) =>
          readAnswer(
            await send(`${origin}${path}`, { ...init, headers: { 'x-caller': who, ...(init.headers as object) } }),
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
        if (send !== fetch) return
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

  it('finds a record by a text with anything in it, and by no other way to write it', async () => {
    const model = defineModel({ tools: { name: text().key() }, racks: { name: text().key(), row: integer().key() } })
    const caller = defineCaller({ id: integer() })
    const rules = defineRules(model, caller, {
      tools: ({ anyone, table }) => table.grants({ read: [anyone] }),
      racks: ({ anyone, table }) => table.grants({ read: [anyone] }),
    })
    const database = new Database(':memory:')
    database.exec(`CREATE TABLE "tools" ("name" TEXT PRIMARY KEY); INSERT INTO "tools" VALUES ('100%'), ('A'), ('a,b/ü');
      CREATE TABLE "racks" ("name" TEXT, "row" INTEGER); INSERT INTO "racks" VALUES ('50%', 2)`)
    const guard = createGuard({ rules, store: sqliteStore(database) })
    const identity = await createIdentity({ rules, sources: [{ name: 'none', identify: () => notMine }] })
    const handler = createHandler({ guard, identity, refusalMilliseconds: 0 })
    const { may } = requirements(handler)
    const app = express()
    const { records, open, of, refuse } = forExpress(handler as never)
    app.use(records)
    app.get('/tools/:name', open(may('get', 'tools', 'name') as never), (request, response) =>
      response.json(of(request).record),
    )
    app.get('/racks/:key', open(may('get', 'racks', 'key') as never), (request, response) =>
      response.json(of(request).record),
    )
    app.use(refuse)
    const server = createServer(app).listen(0, '127.0.0.1')
    await once(server, 'listening')
    const found = async (path: string) => {
      const { status, json } = await readAnswer(
        await fetch(`http://127.0.0.1:${(server.address() as AddressInfo).port}${path}`),
      )
      return status === 200 ? json['name'] : status
    }
    try {
      for (const base of ['', '/api']) {
        expect(await found(`${base}/tools/100%25`)).to.equal('100%')
        expect(await found(`${base}/tools/${encodeURIComponent('a,b/ü')}`)).to.equal('a,b/ü')
        expect(await found(`${base}/racks/50%25,2`)).to.equal('50%')
        // Once read, this is `%41`, and no record has that name.
        expect(await found(`${base}/tools/%2541`)).to.equal(404)
      }
    } finally {
      server.close()
      database.close()
    }
  })
})
