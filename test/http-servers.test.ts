import { createServer, request as rawRequest } from 'node:http'
import type { AddressInfo } from 'node:net'
import { expect } from 'chai'
import express from 'express'
import fastify from 'fastify'
import { requirements } from 'pachter/http'
import { forExpress } from 'pachter/http/express'
import { forFastify } from 'pachter/http/fastify'
import { asking, type CallerName, type Read, readAnswer, serving } from './support/web.js'

describe('records over HTTP, through a server', () => {
  const { ask, handlerOf } = serving()

  type Korenveld = Awaited<ReturnType<typeof handlerOf>>
  const servers: Record<string, (handler: Korenveld) => Promise<{ origin: string; close: () => unknown }>> = {
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
      return { origin: `http://127.0.0.1:${(server.address() as AddressInfo).port}`, close: () => server.close() }
    },
    'Fastify 5': async (handler) => {
      const { may, role, signedIn } = requirements(handler)
      const { records, open, of, refuse } = forFastify(handler)
      const app = fastify()
      app.setErrorHandler(refuse)
      app.addHook('onRequest', async (_request, reply) => void reply.header('vary', 'Origin'))
      app.addHook('onSend', async (_request, reply) => void reply.header('set-cookie', 'seen=1'))
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
