import { expect } from 'chai'
import { createGuard } from 'pachter'
import { createHandler } from 'pachter/http'
import { createIdentity } from 'pachter/identity'
import { sqlStore } from 'pachter/sql'
import { rules } from '../examples/allotment/rules.js'
import { asking, byHeader, type CallerName, ENTRY as entry, type Read, serving } from './support/web.js'

describe('records over HTTP', () => {
  const { ask, opened } = serving()

  it('says who may do what, in answers that nobody else is given', async () => {
    const read = await ask('ana', 'GET', '/entries/1?access=true&$expand=plot($select=number),remarks(access=true)')
    expect(read.json).to.deep.include({ plot: { id: 1, number: 'M01' } })
    const remarks = read.json['remarks'] as { id: number; $access: unknown }[]
    expect(remarks).not.to.have.length(0)
    for (const { id, $access } of remarks) {
      expect($access).to.deep.equal((await ask('ana', 'GET', `/remarks/${id}?access=true`)).json['$access'])
    }
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

  it('brings along what leads to a record by several references, by the one that is named', async () => {
    for (const [by, id] of Object.entries({ assigneeId: 2, reporterId: 6 })) {
      const read = await ask('carla', 'GET', `/members/${id}?$expand=jobs(by=${by};$select=${by})`)
      const jobs = (read.json['jobs'] as Record<string, unknown>[]).map((job) => job['id'])
      const listed = await ask('carla', 'GET', `/jobs?$filter=${by} eq ${id}&$select=id`)
      expect(jobs, by).to.deep.equal((listed.json['records'] as { id: number }[]).map((each) => each.id))
      expect(jobs, by).not.to.have.length(0)
    }
    for (const wrong of ['jobs', 'jobs(by=title)', 'jobs(by=nothing)', 'jobs(by=)', 'entries(by=plotId)']) {
      const read = await ask('eva', 'GET', `/members/3?$expand=${wrong}`)
      expect(read.status, `${wrong}: ${read.text}`).to.equal(400)
    }
    expect((await ask('eva', 'GET', '/jobs/1?$expand=assignee(by=id)')).status).to.equal(400)
    expect((await ask('eva', 'GET', '/jobs?by=assigneeId')).status).to.equal(400)
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
      const { json } = await ask('ben', 'GET', `/members?$top=100&$select=name&$orderby=${order}`)
      const all = json['records'] as readonly object[]
      expect([...new Set(all.flatMap(Object.keys))].sort(), order).to.deep.equal(['id', 'name'])
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
    for (const action of ['nope', '__proto__', 'constructor']) {
      expect((await bulk('ana', { action, keys: [1] })).status, action).to.equal(400)
    }
  })

  it('says of which related records there are more than came', async () => {
    const records = Array.from({ length: 60 }, (_, at) => ({ entryId: 2, body: `no ${at}` }))
    expect((await ask('ana', 'POST', '/remarks/$bulk', { action: 'create', records })).status).to.equal(200)
    const expanded = async (query: string) => {
      const { json } = await ask('ana', 'GET', `/entries/2?$expand=${query}`)
      return [(json['remarks'] as unknown[]).length, json['$more']]
    }
    expect(await expanded('remarks')).to.deep.equal([50, ['remarks']])
    expect(await expanded('remarks($top=3)')).to.deep.equal([3, undefined])
    expect(await expanded("remarks($filter=body eq 'no 7')")).to.deep.equal([1, undefined])
    const { json } = await ask('ana', 'GET', '/plots/1?$expand=entries($expand=remarks)')
    const entries = json['entries'] as { id: number; $more?: readonly string[] }[]
    expect(entries.find(({ id }) => id === 2)?.$more).to.deep.equal(['remarks'])
  })

  it('answers a browser that asks for a page with one, and hides what failed from everybody', async () => {
    const { store } = opened()
    const guard = createGuard({ rules, store })
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
    const broken = sqlStore({ ...store, query: () => Promise.reject(new Error('password=leeks')) })
    const failing = createHandler({
      guard: createGuard({ rules, store: broken }),
      identity,
      onError: (error) => heard.push(error),
    })
    const failed = await asking(failing.handle)('ana', 'GET', '/plots')
    expect([failed.status, failed.json['detail']]).to.deep.equal([500, 'Something went wrong on the server.'])
    expect(failed.text).not.to.match(/leeks/)
    expect(heard).to.have.length(1)
  })
})
