import { expect } from 'chai'
import { anonymous, type createGuard, trusted } from 'pachter'
import { openFixture } from 'pachter/check'
import {
  LiveConfigError,
  createLive,
  followTriggers,
  followWrites,
  installTriggers,
  removeTriggers,
} from 'pachter/live'
import { model } from '../examples/allotment/model.js'
import { rules } from '../examples/allotment/rules.js'
import { following, until } from './support/followed.js'

const data = new URL('../examples/allotment/data/', import.meta.url)

/** Members by their number; what duties they have, their own record says. */
const CALLERS = { nobody: anonymous, ...Object.fromEntries([1, 2, 3, 4, 5, 25].map((id) => [`${id}`, { id }])) }

type Rows = readonly { readonly id: number }[]

describe('live lists', () => {
  let fixture: Awaited<ReturnType<typeof openFixture>>
  let around: Awaited<ReturnType<typeof following>>
  const closing: (() => void)[] = []

  before(async () => {
    fixture = await openFixture(model, data, 'sqlite')
  })
  beforeEach(async () => {
    await fixture.begin()
    around = await following(rules as never, followWrites(fixture.store), CALLERS, { recheckSeconds: 1 })
  })
  afterEach(async () => {
    for (const close of closing.splice(0)) close()
    await around.live.close()
    await fixture.undo()
    expect(around.failures).to.deep.equal([])
  })
  after(() => fixture?.close())

  const guard = () => around.guard as unknown as ReturnType<typeof createGuard<never, never, never>>
  const as = (id: number) => guard().as({ id } as never) as unknown as Writer
  const everything = () => guard().as(trusted('somebody else') as never) as unknown as Writer

  /** What a caller's list holds, as it follows. */
  function follow(name: string, table: string, query: object = {}) {
    const seen = { ids: [] as unknown[], rows: [] as Rows, refused: '', ended: false, times: 0 }
    const client = around.clientOf(name)
    closing.push(() => client.close())
    client.onSession((what) => (seen.ended ||= what === 'ended'))
    client.follow(table, query, {
      records: ({ records }: { records: Rows }) => {
        seen.times += 1
        seen.rows = records
        seen.ids = records.map(({ id }) => id)
      },
      refused: (error: Error) => (seen.refused = error.message),
    })
    return seen
  }

  it('shows a job to whoever helps with it, and asks nobody whom that is nothing to', async () => {
    // Nothing about jobs looks at the clock, so that no list is asked again for that.
    const all = Object.fromEntries(Object.keys(CALLERS).map((name) => [name, follow(name, 'jobs')]))
    await until(() => Object.values(all).every(({ times, refused }) => times === 1 || refused !== ''))
    const before = { ...around.asked }
    await everything().create('jobHelpers', { jobId: 1, memberId: 25 })
    expect(await until(() => all['25']?.ids.includes(1) === true)).to.equal(true)
    await everything().delete('jobHelpers', { jobId: 1, memberId: 25 })
    expect(await until(() => all['25']?.ids.includes(1) === false)).to.equal(true)
    const asked = Object.fromEntries(
      Object.entries(around.asked).map(([name, count]) => [name, count - (before[name] ?? 0)]),
    )
    // Ana and Ben have it in their lists, and still may: nothing of that shows there.
    expect(all['1']?.ids).to.include(1)
    expect(asked).to.deep.equal({ nobody: 0, 1: 0, 2: 0, 3: 0, 4: 0, 5: 0, 25: 2 })
  })

  it('follows what was written in other tables: a plot handed over, a duty taken away, a member who is none any more', async () => {
    const [ben, dirk, wide] = [
      follow('2', 'entries'),
      follow('4', 'rents'),
      follow('2', 'plots', { with: { holder: true } }),
    ]
    await until(() => ben.times + dirk.times + wide.times === 3)
    const ofPlot = (await everything().list('entries')).filter((entry) => entry['plotId'] === 1).map(({ id }) => id)
    expect(dirk.ids.length).to.be.above(5)
    await everything().update('plots', 1, { holderId: 2 })
    expect(await until(() => ofPlot.every((id) => ben.ids.includes(id)))).to.equal(true)
    await everything().update('members', 4, { duties: [] })
    expect(await until(() => dirk.ids.length <= 1)).to.equal(true)
    await everything().update('members', 2, { name: 'Ben Renamed' })
    const nameOn1 = () => (wide.rows[0] as unknown as { holder: { name?: string } }).holder.name
    expect(await until(() => nameOn1() === 'Ben Renamed')).to.equal(true)
  })

  it('takes a field away that is not seen any more, and keeps the order of a page', async () => {
    const page = follow('2', 'entries', { orderBy: 'title', limit: 3, filter: "audience eq 'public'" })
    await until(() => page.times === 1)
    const [first, ...others] = page.ids
    await everything().update('entries', first as number, { title: 'zzz' })
    expect(await until(() => page.ids[0] === others[0] && page.ids.length === 3)).to.equal(true)
    const plots = follow('2', 'plots', { filter: 'id eq 1', access: true })
    await until(() => plots.times === 1)
    await everything().update('plots', 1, { holderId: 2, notes: 'for the holder' })
    expect(await until(() => Object.hasOwn(plots.rows[0] ?? {}, 'notes'))).to.equal(true)
    await everything().update('plots', 1, { holderId: 1 })
    expect(await until(() => !Object.hasOwn(plots.rows[0] ?? {}, 'notes'))).to.equal(true)
  })

  it('follows what a filter looks at: records of other tables that the caller sees', async () => {
    const onBeans = follow('2', 'entries', { filter: "plot/crop eq 'nothing but beans'" })
    await until(() => onBeans.times === 1)
    expect(onBeans.ids).to.deep.equal([])
    await everything().update('plots', 1, { crop: 'nothing but beans' })
    expect(await until(() => onBeans.ids.length > 2)).to.equal(true)
    await everything().update('plots', 1, { crop: 'leeks' })
    expect(await until(() => onBeans.ids.length === 0)).to.equal(true)
  })

  it('says nothing before a transaction is done, and nothing of what was taken back', async () => {
    const seen = follow('nobody', 'entries')
    await until(() => seen.times === 1)
    const values = { plotId: 1, audience: 'public', title: 'Open day', body: 'Come.' }
    await as(1)
      .transaction(async (store) => {
        await store.create('entries', values)
        throw new Error('taken back')
      })
      .catch(() => undefined)
    await as(1).transaction(async (store) => {
      await store.create('entries', values)
      expect(seen.times).to.equal(1)
    })
    expect(await until(() => seen.times === 2)).to.equal(true)
  })

  it('follows the clock: a share that runs out ends by itself', async () => {
    const ben = follow('2', 'entries')
    await until(() => ben.times === 1)
    const until2 = new Date(Date.now() + 4000)
    await as(1).create('entryShares', { entryId: 45, memberId: 2, level: 'view', until: until2 })
    expect(await until(() => ben.ids.includes(45))).to.equal(true)
    expect(await until(() => !ben.ids.includes(45))).to.equal(true)
    expect(Date.now()).to.be.at.least(until2.getTime())
  })

  it('ends with the session, and says so; a list that is refused is told apart from that', async () => {
    const [eva, refused] = [follow('5', 'members'), follow('nobody', 'members')]
    expect(await until(() => eva.times === 1 && refused.refused !== '')).to.equal(true)
    expect(refused).to.include({ refused: 'You have to sign in to list records of members.', ended: false })
    around.ended.add('5')
    around.live.recheck()
    expect(await until(() => eva.ended)).to.equal(true)
    const { times } = eva
    await everything().update('members', 1, { name: 'Nobody hears' })
    await until(() => false, 0.2)
    expect(eva.times).to.equal(times)
  })

  it('takes up a lost connection where it was: what is the same is not sent again, what changed meanwhile is', async () => {
    const ask = async (known?: string) => {
      const headers = { 'x-caller': '2', ...(known && { 'last-event-id': known }) }
      const request = new Request('http://localhost/live?list=%2Fapi%2Fentries%3F%24top%3D2', { headers })
      const response = (await around.live.handle(request)) as Response
      const reader = (response.body as ReadableStream<Uint8Array>).getReader()
      let text = ''
      while (!/data: .*\n\n/.test(text)) text += new TextDecoder().decode((await reader.read()).value)
      await reader.cancel()
      return { event: /event: (.*)/.exec(text)?.[1], id: /id: (.*)/.exec(text)?.[1] as string }
    }
    const first = await ask()
    expect(first.event).to.equal('records')
    expect(await ask(first.id)).to.deep.equal({ event: 'current', id: first.id })
    await everything().update('entries', 1, { title: 'Changed while nobody looked' })
    expect(await ask(first.id)).to.include({ event: 'records' })
    expect(around.live.streams).to.equal(0)
  })

  it('gives a client as many streams as its lists need', async () => {
    const client = around.clientOf('1')
    closing.push(() => client.close())
    let heard = 0
    for (let at = 0; at < 45; at += 1) {
      client.follow('entries', { filter: `id ge ${at}`, limit: 1 }, { records: () => (heard += 1) })
    }
    expect(await until(() => heard === 45)).to.equal(true)
    expect(around.live.streams).to.equal(3)
  })

  it('takes lists below its base alone, so many, and so many streams of one caller', async () => {
    const status = async (query: string, init: RequestInit = {}) => {
      const response = await around.live.handle(new Request(`http://localhost/live${query}`, init))
      const { body } = response as Response
      closing.push(() => void body?.cancel())
      return (response as Response).status
    }
    const lists = (...all: string[]) => `?${all.map((each) => `list=${encodeURIComponent(each)}`).join('&')}`
    expect(await status('')).to.equal(400)
    expect(await status(lists('/sign-in/out'))).to.equal(400)
    expect(await status(lists('/api/../sign-in'))).to.equal(400)
    expect(await status(lists('//elsewhere.example/api/entries'))).to.equal(400)
    expect(await status(lists('/api/entries').concat('&more=1'))).to.equal(400)
    expect(await status(lists(...Array<string>(21).fill('/api/entries')))).to.equal(400)
    expect(await status(lists(`/api/entries?$filter=${'x'.repeat(9000)}`))).to.equal(414)
    expect(await status(lists('/api/entries'), { method: 'POST' })).to.equal(405)
    const query = lists('/api/entries/4', '/api/$caller', '/api/openapi.json', '/api/nothing', '/api/entries?$top=1')
    const response = (await around.live.handle(new Request(`http://localhost/live${query}`))) as Response
    let text = ''
    for await (const part of response.body as unknown as AsyncIterable<Uint8Array>) {
      text += new TextDecoder().decode(part)
      if (text.includes('"list":4')) break
    }
    const told = [...text.matchAll(/^event: (.*)$/gm)].map(([, event]) => event)
    expect(told).to.deep.equal(['refused', 'refused', 'refused', 'refused', 'records'])
    around.ended.add('3')
    expect(await status(lists('/api/entries'), { headers: { 'x-caller': '3' } })).to.equal(401)
    const headers = { 'x-caller': '25' }
    for (let at = 0; at < 50; at += 1) expect(await status(lists('/api/sites'), { headers })).to.equal(200)
    expect(await status(lists('/api/sites'), { headers })).to.equal(429)
    expect(await around.live.handle(new Request('http://localhost/elsewhere'))).to.equal(undefined)
  })

  it('refuses at the start what cannot work', async () => {
    const told = (work: () => unknown) => {
      try {
        work()
      } catch (error) {
        return error
      }
      return undefined
    }
    expect(told(() => followTriggers(fixture.store, model))).to.be.instanceOf(LiveConfigError)
    const plain = { handler: around.handler as never, store: fixture.store as never }
    for (const options of [plain, { ...plain, store: followWrites(fixture.store), path: '/api/live' }]) {
      expect(await createLive(options).catch((error: unknown) => error)).to.be.instanceOf(LiveConfigError)
    }
  })
})

interface Writer {
  list(table: string): Promise<readonly Readonly<Record<string, unknown>>[]>
  create(table: string, values: object): Promise<unknown>
  update(table: string, key: number, values: object): Promise<unknown>
  delete(table: string, key: object): Promise<unknown>
  transaction(work: (store: Writer) => Promise<unknown>): Promise<unknown>
}

describe('triggers', () => {
  it('tell of what is written past the application, and leave nothing behind', async () => {
    const fixture = await openFixture(model, data, 'pglite')
    const { store } = fixture
    const run = async (statements: readonly string[]) => {
      for (const each of statements) await store.query(each, [])
    }
    const heard: unknown[] = []
    const listen = () => followTriggers(store, model).changes.listen((change) => heard.push(change))
    expect(await listen().catch((error: unknown) => (error as Error).message)).to.match(
      /wanting on members \(missing\)/,
    )
    await run(installTriggers(model))
    await run(installTriggers(model))
    const stop = await listen()
    await run([
      `UPDATE entries SET title = 'By hand' WHERE id = 1`,
      `UPDATE entries SET title = 'By hand' WHERE id = 1`,
    ])
    await run([`DELETE FROM "entryShares" WHERE "entryId" = 1 AND "memberId" = 2`, `TRUNCATE "jobHelpers"`])
    await run([`NOTIFY pachter_changes, 'nonsense'`, `NOTIFY pachter_changes, '{"table":"elsewhere"}'`])
    await until(() => heard.length >= 4)
    const row = { id: 1, plotId: 1, authorId: 1 }
    expect(heard).to.deep.equal([
      { table: 'entries', fields: ['title'], rows: [row, row] },
      { table: 'entryShares', rows: [{ entryId: 1, memberId: 2 }] },
      { table: 'jobHelpers' },
      'gap',
    ])
    await stop()
    await run(removeTriggers(model))
    const { rows } = await store.query(`SELECT 1 FROM pg_trigger WHERE tgname LIKE 'pachter%'`, [])
    expect(rows).to.deep.equal([])
    await fixture.close()
  })
})
