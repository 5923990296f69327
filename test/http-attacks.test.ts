import { expect } from 'chai'
import pg from 'pg'
import { createGuard } from 'pachter'
import { createHandler, type Repeat, type RepeatStore } from 'pachter/http'
import { createIdentity } from 'pachter/identity'
import { callers } from '../examples/allotment/callers.js'
import { readData } from '../examples/allotment/database.js'
import { model } from '../examples/allotment/model.js'
import { rules } from '../examples/allotment/rules.js'
import type { SqlStore } from 'pachter/sql'
import { type Engine, load, openEngines } from './support/engines.js'
import { asking, byHeader, type CallerName, ENTRY as entry, type Read, serving } from './support/web.js'

describe('records over HTTP, attacked by hand', () => {
  const { ask, detailOf } = serving()

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
    for (const method of ['PUT', 'constructor', '__proto__', 'TOSTRING']) {
      expect((await ask('ana', method, '/entries/1', entry)).status, method).to.equal(405)
    }
    const odd = ['01', '1.0', '1e0', '+1', '%31%20', ' 1', '1,1', '0x1', 'NaN', '-1', '1%00', '__proto__', '%', '1;--']
    for (const key of odd) {
      const read = await ask('ana', 'GET', `/entries/${key.includes('%') ? key : encodeURIComponent(key)}`)
      expect([read.status, read.json['detail']], key).to.deep.equal([404, 'There is no such record in entries.'])
    }
    // Nor is it told otherwise to those who would be told to sign in.
    for (const name of ['nobody', 'ana', 'eva'] as const) {
      for (const method of ['GET', 'DELETE']) {
        for (const table of ['entries', 'rents', 'siteWardens']) {
          const none = table === 'siteWardens' ? '999,999' : '999'
          const odd = await ask(name, method, `/${table}/x`)
          expect(odd, `${method} ${table} as ${name}`).to.deep.equal(await ask(name, method, `/${table}/${none}`))
        }
      }
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
      [JSON.stringify(Object.fromEntries(Array.from({ length: 1001 }, (_, at) => [`n${at}`, 1])))]: 400,
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
    const grown = 'plots($expand=entries($expand=remarks))'
    expect((await ask('ana', 'GET', `/sites?$expand=${grown}`)).status).to.equal(400)
    expect((await ask('ana', 'GET', `/sites?$top=3&$expand=plots($top=9;$expand=entries)`)).status).to.equal(200)
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
    // What somebody has already is not to be written again.
    const { headers: read } = await ask('ana', 'GET', '/entries/3')
    const unlike = { 'if-none-match': read['etag'] as string }
    expect((await ask('ana', 'PATCH', '/entries/3', { title: 'Fog' }, unlike)).status).to.equal(412)
    const now = (await ask('ana', 'PATCH', '/entries/3', { title: 'Frost' })).headers['etag'] as string
    expect((await ask('ana', 'GET', '/entries/3')).headers['etag'], 'the same after a change').to.equal(now)
    // Proxies that compress what they pass on make weak tags of ours, or say so behind them.
    const packed = (tag: string) => tag.replace(/"$/, '-gzip"')
    for (const tag of [`"x", ${now}`, `W/${now}`, packed(now)]) {
      const changed = await ask('ana', 'PATCH', '/entries/3', { title: 'Frost' }, { 'if-match': tag })
      expect(changed.status, tag).to.equal(200)
    }
    const other = now.replace(/.{4}"$/, 'else"')
    for (const tag of [`W/${other}`, packed(other), now.replace(/.{5}"$/, '-gzip"')]) {
      expect((await ask('ana', 'DELETE', '/entries/3', undefined, { 'if-match': tag })).status, tag).to.equal(412)
    }
    const last = (await ask('ana', 'GET', '/entries/3')).headers['etag'] as string
    for (const tag of [last, `W/${last}`, packed(last), `"x", ${last}`, '*']) {
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
    for (const long of ['', 'x'.repeat(256)]) {
      expect((await ask('ana', 'POST', '/entries', entry, { 'idempotency-key': long })).status).to.equal(400)
    }
    const wrong = { 'idempotency-key': 'wrong' }
    expect((await ask('ana', 'POST', '/entries', { ...entry, title: '' }, wrong)).status).to.equal(422)
    expect((await ask('ana', 'POST', '/entries', entry, wrong)).status).to.equal(201)
    const both = ['x', 'x'].map((each) => ask('ana', 'POST', '/entries', entry, { 'idempotency-key': each }))
    const statuses = (await Promise.all(both)).map(({ status }) => status)
    expect(statuses.sort()).to.satisfy(([one, other]: number[]) => one === 201 && [201, 409].includes(other ?? 0))
  })

  it('by creating while what several processes share is out of order: what is stored is told to be', async () => {
    const begun = new Map<string, Repeat>()
    const lost = () => Promise.reject(new Error('connection lost'))
    const repeats: RepeatStore = {
      begin: async (name, repeat) => begun.get(name) ?? void begun.set(name, repeat),
      end: lost,
      forget: lost,
    }
    const heard: string[] = []
    const onError = (error: unknown) => void heard.push(String(error))
    const [engine] = (await openEngines()) as [Engine]
    await load(engine, model, await readData())
    const identity = await createIdentity({ rules, sources: [byHeader] })
    const guard = createGuard({ rules, store: engine.store })
    const on = asking(createHandler({ guard, identity, repeats, onError }).handle)
    const send = (values: object, key: string) => on('ana', 'POST', '/entries', values, { 'idempotency-key': key })
    expect([(await send(entry, 'k')).status, (await send(entry, 'k')).status]).to.deep.equal([201, 409])
    expect((await send({ ...entry, title: '' }, 'l')).status).to.equal(422)
    expect(heard).to.deep.equal(['Error: connection lost', 'Error: connection lost'])
  })

  it('by sending again what was stored and could not be read: it is stored once', async () => {
    const [engine] = (await openEngines()) as [Engine]
    const data = await readData()
    await load(engine, model, data)
    const store: SqlStore = {
      ...engine.store,
      query: async (statement, values, signal) => {
        const { rows, touched } = await engine.store.query(statement, values, signal)
        // What an insert returns has a moment that is none.
        return { touched, rows: rows.map((row) => (/^INSERT/.test(statement) ? { ...row, createdAt: 'soon' } : row)) }
      },
    }
    const identity = await createIdentity({ rules, sources: [byHeader] })
    const on = asking(createHandler({ guard: createGuard({ rules, store }), identity, onError: () => {} }).handle)
    const send = async (more = {}) => (await on('ana', 'POST', '/entries', entry, more)).status
    const statuses = [await send({ 'idempotency-key': 'k' }), await send({ 'idempotency-key': 'k' }), await send()]
    const { rows } = await store.query('SELECT 1 FROM entries', [])
    expect([...statuses, rows.length - (data.entries?.length ?? 0)]).to.deep.equal([201, 201, 500, 2])
  })

  it('by many who read the same and change it at a time: one does, the others are told', async () => {
    for (const engine of await openEngines()) {
      await load(engine, model, await readData())
      const identity = await createIdentity({ rules, sources: [byHeader] })
      const guard = createGuard({ rules, store: engine.store })
      const on = asking(createHandler({ guard, identity, refusalMilliseconds: 0 }).handle)
      for (let round = 0; round < 10; round += 1) {
        const { headers } = await on('ana', 'GET', '/entries/3')
        const match = { 'if-match': headers['etag'] as string }
        const change = (title: string) => on('ana', 'PATCH', '/entries/3', { title }, match)
        const all = await Promise.all(['a', 'b', 'c', 'd'].map((each) => change(`${each}${round}`)))
        const statuses = all.map(({ status }) => status).sort()
        // Another may be in the way of another; none is done twice.
        expect(statuses.slice(0, 2), engine.name).to.satisfy(
          ([one, two]: number[]) => one === 200 && [409, 412].includes(two as number),
        )
      }
    }
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
      const answer = on(name, 'PATCH', `/rents/${key}`, { amountCents: 1 })
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
      expect((await waits('ana', 1, ['treasurer'])).status, 'a role that was given').to.equal(200)
    } finally {
      await other.end()
    }
  })
})
