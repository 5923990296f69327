// What records over HTTP cost: a list of 20 and one record, through the web-standard handler and through Express, beside the
// same endpoints written by hand on the same driver, which look at the caller and have no rules, and beside such that
// ask the guard by hand: what of it the rules cost, and what the rest. Interleaved; medians of ratios.
import { Agent, createServer, request as send, type Server } from 'node:http'
import type { AddressInfo } from 'node:net'
import express from 'express'
import { createGuard } from 'pachter'
import { createHandler } from 'pachter/http'
import { forExpress } from 'pachter/http/express'
import { createIdentity, notMine, thisCaller } from 'pachter/identity'
import { type caller, rules } from '../../examples/allotment/rules.js'
import { openers } from './databases.js'

const ROUNDS = Number(process.env['PACHTER_ROUNDS'] ?? 21)
const EACH = 200
const LIST = 'SELECT * FROM "entries" ORDER BY "id" LIMIT '

type Ask = (path: string) => Promise<unknown>

for (const [name, open] of Object.entries(openers)) {
  const { store, run, close } = await open()
  const [listed, one] = [LIST.replaceAll('"', name === 'MariaDB' ? '`' : '"'), placed(name)]
  const guard = createGuard({ rules, store })
  const identity = await createIdentity({
    rules,
    sources: [
      {
        name: 'header',
        identify: ({ request }) => {
          const id = request.headers.get('x-member')
          return id === null ? notMine : thisCaller<typeof caller>({ id: Number(id) })
        },
      },
    ],
  })
  const handler = createHandler({ guard, identity })
  const [list, get] = ['/api/entries?$top=20', '/api/entries/1']

  /** The endpoints by hand: of a list, as many records as the caller sees. */
  const byHand = async (request: Request): Promise<Response> => {
    if (request.headers.get('x-member') === null) return new Response(null, { status: 401 })
    const { pathname, searchParams } = new URL(request.url)
    const key = pathname.split('/')[3]
    if (key !== undefined) return Response.json((await run(one, [Number(key)]))[0])
    return Response.json({ records: await run(listed + Number(searchParams.get('$top')), []) })
  }
  const web =
    (handle: (request: Request) => Promise<Response>): Ask =>
    async (path) =>
      (await handle(new Request(`http://localhost${path}`, { headers: { 'x-member': '1' } }))).text()

  const { records } = forExpress(handler)
  const mine = await serve(express().use(records))
  const plain = express()
  plain.get('/api/entries', async (request, response) => {
    if (request.get('x-member') === undefined) response.status(401).end()
    else response.json({ records: await run(listed + Number(request.query['$top']), []) })
  })
  plain.get('/api/entries/:id', async (request, response) => {
    if (request.get('x-member') === undefined) response.status(401).end()
    else response.json((await run(one, [Number(request.params.id)]))[0])
  })
  const theirs = await serve(plain)
  const withGuard = async (request: Request): Promise<Response> => {
    const store = guard.as(await identity.callerOf(request))
    const { pathname, searchParams } = new URL(request.url)
    const key = pathname.split('/')[3]
    if (key !== undefined) return Response.json(await store.get('entries', Number(key)))
    return Response.json({ records: await store.list('entries', { limit: Number(searchParams.get('$top')) }) })
  }
  const guarded = express()
  guarded.get('/api/entries', async (request, response) => {
    const store = guard.as({ id: Number(request.get('x-member')) })
    response.json({ records: await store.list('entries', { limit: Number(request.query['$top']) }) })
  })
  guarded.get('/api/entries/:id', async (request, response) => {
    response.json(await guard.as({ id: Number(request.get('x-member')) }).get('entries', Number(request.params.id)))
  })
  const between = await serve(guarded)

  for (const [what, path] of Object.entries({ list, get })) {
    const ways: [string, Ask, Ask][] = [
      ['web', web(handler.handle), web(byHand)],
      ['web, beside the guard by hand', web(handler.handle), web(withGuard)],
      ['Express', over(mine), over(theirs)],
      ['Express, beside the guard by hand', over(mine), over(between)],
    ]
    for (const [way, ours, hand] of ways) {
      const ratios: number[] = []
      const [a, b]: [number[], number[]] = [[], []]
      for (let round = 0; round < ROUNDS + 2; round += 1) {
        const [first, second] =
          round % 2 === 0 ? [await time(ours, path), await time(hand, path)] : [...(await reversed(hand, ours, path))]
        if (round < 2) continue
        a.push(first)
        b.push(second)
        ratios.push(first / second)
      }
      const [p, h] = [median(a), median(b)]
      const sizes = `${String(await ours(path)).length} and ${String(await hand(path)).length} characters`
      console.log(
        `${name} ${way} ${what}: ${median(ratios).toFixed(2)}× (${p.toFixed(0)} µs, by hand ${h.toFixed(0)} µs; ${(1e6 / p).toFixed(0)} a second; ${sizes})`,
      )
    }
  }
  mine.close()
  theirs.close()
  between.close()
  await close()
}

async function reversed(hand: Ask, ours: Ask, path: string): Promise<[number, number]> {
  const second = await time(hand, path)
  return [await time(ours, path), second]
}

function placed(name: string): string {
  if (name === 'PostgreSQL') return 'SELECT * FROM "entries" WHERE "id" = $1'
  return name === 'MariaDB' ? 'SELECT * FROM `entries` WHERE `id` = ?' : 'SELECT * FROM "entries" WHERE "id" = ?'
}

async function time(ask: Ask, path: string): Promise<number> {
  const start = performance.now()
  for (let at = 0; at < EACH; at += 1) await ask(path)
  return ((performance.now() - start) / EACH) * 1000
}

async function serve(app: express.Express): Promise<Server> {
  const server = createServer(app)
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', () => resolve()))
  return server
}

function over(server: Server): Ask {
  const agent = new Agent({ keepAlive: true, maxSockets: 1 })
  const { port } = server.address() as AddressInfo
  return (path) =>
    new Promise((resolve, reject) => {
      const options = { agent, port, host: '127.0.0.1', path, headers: { 'x-member': '1' } }
      const sent = send(options, (response) => {
        let text = ''
        response.setEncoding('utf8').on('data', (part: string) => (text += part))
        response.on('end', () => resolve(text))
      })
      sent.on('error', reject).end()
    })
}

function median(values: readonly number[]): number {
  return [...values].sort((x, y) => x - y)[Math.floor(values.length / 2)] as number
}
