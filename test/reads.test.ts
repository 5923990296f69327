import { sqlStore } from 'pachter/sql'
import Database from 'better-sqlite3'
import { expect } from 'chai'
import fc from 'fast-check'
import { all, createGuard, defineCaller, defineRules, inFull, integer, not, trusted } from 'pachter'
import { sqliteStore } from 'pachter/connect/sqlite'
import { callers } from '../examples/allotment/callers.js'
import { readData } from '../examples/allotment/database.js'
import { model } from '../examples/allotment/model.js'
import { rules } from '../examples/allotment/rules.js'
import { type Engine, engineNames, load, openEngines } from './support/engines.js'
import { NOW, refusalOf } from './support/korenveld.js'

const { nobody, ana, ben, eva, noor } = callers

describe('reads', () => {
  let engines: readonly Engine[]
  before(async () => {
    engines = await openEngines()
    const data = await readData()
    for (const engine of engines) await load(engine, model, data)
  })

  const guardOf = ({ store }: Engine) => createGuard({ rules, store, clock: () => NOW })
  const someone = fc.constantFrom(nobody, ana, ben, eva, noor)

  /** Runs a check on every engine. */
  const onEach = (check: (guard: ReturnType<typeof guardOf>, engine: Engine) => Promise<void>) =>
    Promise.all(engines.map((engine) => check(guardOf(engine), engine)))

  it(`page alike by offset and by the last record, in any order, on ${engineNames.join(', ')}`, async () => {
    const fields = ['plotId', 'createdAt', 'updatedAt', 'authorId'] as const
    const order = fc.uniqueArray(fc.tuple(fc.constantFrom(...fields), fc.boolean()), {
      maxLength: 2,
      selector: ([field]) => field,
    })
    const cases = fc.record({ caller: someone, order, size: fc.integer({ min: 1, max: 9 }) })
    const page = async ({ caller, order: sorted, size }: typeof cases extends fc.Arbitrary<infer C> ? C : never) => {
      const orderBy = sorted.map(([field, descending]) => (descending ? (`${field} descending` as const) : field))
      await onEach(async (guard) => {
        const scoped = guard.as(caller)
        const whole = await scoped.list('entries', { orderBy })
        const rank = (value: unknown) => (value === null ? -Infinity : Number(value))
        for (const [at, next] of whole.slice(1).entries()) {
          const before = whole[at]
          const differs = sorted.find(([field]) => rank(before?.[field]) !== rank(next[field]))
          const [field, descending] = differs ?? (['id', false] as const)
          const inOrder = rank(before?.[field]) < rank(next[field])
          expect(inOrder, `${field} of ${JSON.stringify([before, next])}`).to.equal(!descending)
        }
        const byOffset = []
        const byLast: (typeof whole)[number][] = []
        for (let offset = 0; offset < whole.length; offset += size) {
          byOffset.push(...(await scoped.list('entries', { orderBy, limit: size, offset })))
          const last = byLast.at(-1)
          byLast.push(...(await scoped.list('entries', { orderBy, limit: size, ...(last && { after: last }) })))
        }
        const streamed = []
        for await (const entry of scoped.stream('entries', { orderBy, batch: size })) streamed.push(entry)
        for await (const entry of scoped.stream('entries', { orderBy: 'createdAt', fields: ['title'], batch: size })) {
          expect(Object.keys(entry)).to.deep.equal(['id', 'title'])
        }
        for (const pages of [byOffset, byLast, streamed]) expect(pages).to.deep.equal(whole)
        expect(await scoped.count('entries')).to.equal(whole.length)
      })
    }
    await fc.assert(fc.asyncProperty(cases, page), { numRuns: 40 })
  })

  it('take further conditions, and give no hidden field or record away through them', () =>
    onEach(async (guard, { store }) => {
      const asBen = guard.as(ben)
      const open = await asBen.list('entries', { where: (row) => row.audience.is('public'), fields: ['audience'] })
      expect(open).to.have.length(13)
      expect(Object.keys(open[0] ?? {})).to.deep.equal(['id', 'audience'])
      const mine = await asBen.list('entries', { where: (row) => all(row.may('delete'), row.plotId.above(0)) })
      expect(mine.every(({ authorId }) => authorId === 2)).to.equal(true)
      // Ben sees nobody's e-mail but his own: asking for it, or for its opposite, tells him nothing.
      const hidden = { where: (row: { email: { startsWith(prefix: string): never } }) => row.email.startsWith('ana') }
      expect(await asBen.exists('members', hidden as never)).to.equal(false)
      expect(await guard.as(eva).exists('members', hidden as never)).to.equal(true)
      const others = await asBen.count('members', { where: (row) => not(row.email.startsWith('ana')) })
      expect(others).to.equal(await asBen.count('members'))
      const byMail = await asBen.list('members', { orderBy: 'email' })
      expect(byMail.map(({ id }) => id)).to.deep.equal([
        ...byMail
          .map(({ id }) => id)
          .filter((id) => id !== 2)
          .sort((left, right) => left - right),
        2,
      ])
      const seen = (await asBen.list('remarks')).map(({ entryId }) => entryId)
      const remarked = await asBen.list('members', {
        where: (row) => row.entries.some((entry) => entry.remarks.some()),
      })
      const script = createGuard({ rules, store, onDecision: () => undefined }).as(trusted('comparison'))
      const authors = (await script.list('entries'))
        .filter(({ id }) => seen.includes(id))
        .map(({ authorId }) => authorId)
      expect(new Set(remarked.map(({ id }) => id))).to.deep.equal(new Set(authors))
    }))

  it('bring related records along in one query, each under its own rules', async () => {
    await onEach(async (_, { store }) => {
      let sent = 0
      const query: typeof store.query = (text, values) => ((sent += 1), store.query(text, values))
      const guard = createGuard({ rules, store: sqlStore({ ...store, query }), clock: () => NOW })
      await guard.as(eva).count('entries')
      for (const caller of [nobody, ana, ben, eva]) {
        const scoped = guard.as(caller)
        sent = 0
        const entries = await scoped.list('entries', {
          with: {
            plot: { with: { site: true } },
            author: { fields: ['name', 'email'] },
            remarks: { orderBy: 'createdAt descending', limit: 2, access: true, with: { author: true } },
          },
        })
        expect(sent).to.equal(1)
        const [plots, sites] = [await scoped.list('plots'), await scoped.list('sites')]
        const remarks = await scoped.list('remarks', { orderBy: 'createdAt descending', access: true }).catch(() => [])
        const members = caller === nobody ? [] : await scoped.list('members')
        const memberOf = (id: unknown) => members.find((member) => member.id === id) ?? null
        for (const entry of entries) {
          const plot = plots.find(({ id }) => id === entry.plotId)
          expect(entry.plot).to.deep.equal({ ...plot, site: sites.find(({ id }) => id === plot?.siteId) })
          const { name, email } = memberOf(entry.authorId) ?? {}
          const shown = { ...(name !== undefined && { name }), ...(email !== undefined && { email }) }
          expect(entry.author).to.deep.equal(memberOf(entry.authorId) && { id: entry.authorId, ...shown })
          const own = remarks.filter(({ entryId }) => entryId === entry.id).slice(0, 2)
          expect(entry.remarks).to.deep.equal(own.map((each) => ({ ...each, author: memberOf(each.authorId) })))
        }
      }
    })
  })

  it('give one record what a list gives it, with conditions on what is related', () =>
    onEach(async (guard) => {
      for (const caller of [ana, eva]) {
        const listed = await guard.as(caller).list('entries', {
          with: { plot: { where: (plot) => plot.areaM2.above(60) }, remarks: { where: (each) => each.id.isNot(3) } },
        })
        expect(listed.some(({ plot, remarks }) => plot && remarks.length > 0)).to.equal(true)
        for (const entry of listed) {
          const got = await guard.as(caller).get('entries', entry.id, {
            with: { plot: { where: (plot) => plot.areaM2.above(60) }, remarks: { where: (each) => each.id.isNot(3) } },
          })
          expect(got).to.deep.equal(entry)
        }
      }
    }))

  it('refuse what cannot be asked, before any query', async () => {
    const [engine] = engines as [Engine]
    const asAna = guardOf(engine).as(ana)
    const wrong: [Promise<unknown>, RegExp][] = [
      [asAna.list('entries', { limit: -1 }), /limit must be a whole number/],
      [asAna.list('entries', { orderBy: 'titel' as never }), /no field "titel" in entries/],
      [asAna.list('entries', { orderBy: 'title down' as never }), /'title descending'/],
      [asAna.list('entries', { after: { title: 'x' } }), /after has no id/],
      [
        asAna.list('entries', { with: { plots: true } as never }),
        /no relation "plots" in entries; known: plot, author/,
      ],
      [asAna.list('members', { with: { jobs: true } as never }), /jobs refers to members by reporterId, assigneeId/],
      [asAna.list('entries', { sort: 'id' } as never), /no option "sort" in list/],
      [asAna.count('entries', { form: 'fly' as never }), /no form "fly"; known: walk, scan, gather/],
    ]
    for (const [promise, message] of wrong) expect(inFull(await refusalOf(promise))).to.match(message)
    const jobs = await asAna.list('members', { with: { jobs: { by: 'assigneeId' } } })
    expect(jobs.find(({ id }) => id === 1)?.jobs).to.be.an('array')
  })

  it('never take one caller’s plan for another’s, whatever roles are called', async () => {
    const [{ store }] = engines as [Engine]
    const caller = defineCaller({ id: integer() }, { roles: ['a', 'b', 'a,b'] })
    const rules = defineRules(model, caller, { sites: ({ role, table }) => table.grants({ read: [role('a,b')] }) })
    const guard = createGuard({ rules, store })
    expect(await guard.as({ id: 1, roles: ['a,b'] }).count('sites')).to.equal(3)
    expect(await refusalOf(guard.as({ id: 1, roles: ['a', 'b'] }).count('sites'))).to.include({ status: 403 })
  })

  it('do without what a table does not tell of itself', async () => {
    const database = new Database(':memory:')
    const store = sqliteStore(database)
    const data = await readData()
    await load({ name: 'file', store, close: async () => undefined }, model, data)
    database.exec(`ALTER TABLE entries RENAME TO kept;
      CREATE TABLE entries (id INTEGER PRIMARY KEY, plotId, authorId, audience, title, body, createdAt, updatedAt) WITHOUT ROWID;
      INSERT INTO entries SELECT * FROM kept`)
    const guard = createGuard({ rules, store, clock: () => NOW })
    expect(await guard.as(ana).count('entries')).to.equal(32)
    expect(await guard.as(ana).plan('entries', { limit: 3 })).to.include({ rows: 10_000 })
    database.close()
  })

  it('are refused or empty as before, whatever else is asked', async () => {
    const [engine] = engines as [Engine]
    const guard = guardOf(engine)
    const closed = await refusalOf(guard.as(nobody).list('rents', { where: (row) => row.year.is(2026) }))
    expect(closed).to.include({ status: 401 })
    expect((await refusalOf(guard.as(noor).get('entries', 45, { with: { plot: true } }))).message).to.match(/no such/)
    expect(await guard.as(noor).plan('entries', { limit: 5, form: 'walk' })).to.deep.include({ form: 'walk' })
  })
})
