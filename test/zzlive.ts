import { createServer } from 'node:http'
import express from 'express'
import { createGuard, trusted } from 'pachter'
import { openFixture } from 'pachter/check'
import { createClient, filter } from 'pachter/client'
import { createHandler } from 'pachter/http'
import { forExpress } from 'pachter/http/express'
import { createIdentity } from 'pachter/identity'
import { createLive, followWrites } from 'pachter/live'
import { model } from '../examples/allotment/model.js'
import { rules } from '../examples/allotment/rules.js'
import { byHeader } from './support/web.js'
const fixture = await openFixture(model, new URL('../examples/allotment/data/', import.meta.url), 'sqlite')
const store = followWrites(fixture.store)
const guard = createGuard({ rules, store, onDecision: () => undefined })
const handler = createHandler({ guard, identity: await createIdentity({ rules, sources: [byHeader] }), refusalMilliseconds: 1 })
const live = await createLive({ handler, store })
const app = express()
const { records, pages, refuse } = forExpress(handler as never)
app.use(records, pages(live.handle as never), refuse)
const server = createServer(app).listen(0)
const origin = `http://127.0.0.1:${(server.address() as { port: number }).port}`
const wait = (n: number) => new Promise(r => setTimeout(r, n))
const ben = createClient({ model, rules, origin, signIn: null, headers: () => ({ 'x-caller': 'ben' }) })
console.log(await ben.session())
console.log((await ben.get('entries', 3, { access: true, with: { plot: true } })).$tag)
const { $tag } = await ben.get('entries', 3, { access: true })
console.log(await ben.update('entries', 3, { title: "Ben's" }, { tag: $tag }))
try { await ben.update('entries', 3, { title: "Ben's 2" }, { tag: $tag }) } catch (e) { console.log((e as any).code, (e as any).message) }
try { await ben.update('entries', 3, { audience: 'public' }) } catch (e) { console.log((e as any).code, (e as any).message, (e as any).fields) }
console.log((await ben.list('entries', { filter: filter`title eq ${"Ben's"}`, with: { plot: { fields: ['number'] } } })).records[0])
const stop = ben.follow('entries', { orderBy: 'title' }, { records: p => console.log('ben sees', p.records.map(r => r.id).join(','), p.more) })
ben.follow('rents', {}, { records: p => console.log('ben rents', p.records.length), refused: e => console.log('refused', e.message) })
await wait(300)
const ana = guard.as({ id: 1 })
await ana.create('entryShares', { entryId: 45, memberId: 2, level: 'edit' }); await wait(200)
await ana.delete('entryShares', { entryId: 45, memberId: 2 }); await wait(200)
const s2 = ben.follow('jobs', { limit: 3 }, { records: p => console.log('ben jobs', p.records.map(r => r.id).join(','), p.more) })
await wait(300)
console.log('streams', live.streams); 
await guard.as(trusted('x')).update('plots', 1, { holderId: 2 }); await wait(200)
ben.close(); await wait(100); console.log('streams', live.streams)
await live.close(); server.close(); await fixture.close()
