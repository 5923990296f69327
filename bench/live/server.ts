// One process of a server with live lists, for the load: `server.ts <url of PostgreSQL> <port>`.
import { createServer } from 'node:http'
import express from 'express'
import pg from 'pg'
import { createGuard } from 'pachter'
import { postgresqlStore } from 'pachter/connect/postgresql'
import { createHandler } from 'pachter/http'
import { forExpress } from 'pachter/http/express'
import { createIdentity, notMine, type Source, thisCaller } from 'pachter/identity'
import { createLive, followTriggers } from 'pachter/live'
import { model } from '../../examples/allotment/model.js'
import { type caller, rules } from '../../examples/allotment/rules.js'

const [url, port] = process.argv.slice(2)
const byHeader: Source<typeof caller> = {
  name: 'header',
  identify: ({ request }) => {
    const id = request.headers.get('x-member')
    return id === null ? notMine : thisCaller<typeof caller>({ id: Number(id) })
  },
}
const store = followTriggers(postgresqlStore(new pg.Pool({ connectionString: url as string })), model)
const guard = createGuard({ rules, store, onDecision: () => undefined })
const handler = createHandler({ guard, identity: await createIdentity({ rules, sources: [byHeader] }) })
const live = await createLive({ handler, store })
const { records, pages, refuse } = forExpress(handler)
/** How many lists were asked, for whoever measures. */
let asked = 0
const { handle } = handler
Object.assign(handler, { handle: (...given: Parameters<typeof handle>) => ((asked += 1), handle(...given)) })
const app = express().use(records, pages(live.handle))
app.get('/asked', (_request, response) => response.json({ asked }))
app.use(refuse)
createServer(app).listen(Number(port), '127.0.0.1', () => process.send?.('ready'))
