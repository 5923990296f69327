import { expect } from 'chai'
import {
  anonymous,
  CallerError,
  createGuard,
  defineCaller,
  defineModel,
  defineRules,
  inFull,
  InputError,
  integer,
  RulebookError,
  RuleError,
  StoreError,
  text,
  UnknownNameError,
} from 'pachter'
import { sqlite, sqlStore } from 'pachter/sql'
import { callers } from '../examples/allotment/callers.js'
import { rules } from '../examples/allotment/rules.js'
import { NOW, openKorenveld, refusalOf } from './support/korenveld.js'

const { nobody, ana, ben, carla, dirk, eva, noor } = callers
const NEW_ENTRY = { plotId: 1, audience: 'private', title: 'Chervil', body: 'Sown late.' } as const

describe('the guard on PGlite', () => {
  let korenveld: Awaited<ReturnType<typeof openKorenveld>>
  before(async () => {
    korenveld = await openKorenveld()
  })
  after(() => korenveld.close())
  beforeEach(() => korenveld.sent.splice(0))

  const as = (caller: (typeof callers)[keyof typeof callers]) => korenveld.guard.as(caller)
  const stored = async (table: string, id: number) =>
    (await korenveld.store.query(`SELECT * FROM "${table}" WHERE id = $1`, [id])).rows[0]

  describe('reads', () => {
    it('lists 50 records, masked and with what may be done to each, in one query', async () => {
      await as(ana).count('entries')
      korenveld.sent.splice(0)
      const entries = await as(ana).list('entries', { access: true, limit: 50 })
      expect(entries).to.have.length(32)
      expect(korenveld.sent).to.have.length(1)
      expect(entries[0]).to.deep.include({ id: 1, title: 'First leeks in' })
      expect(entries[0]?.$access).to.deep.equal({
        may: { update: true, delete: true },
        changeable: ['audience', 'title', 'body'],
        hidden: [],
        ties: ['author', 'plotHolder'],
        seenBy: ['author', 'plotHolder'],
      })
      expect(entries.find(({ id }) => id === 12)?.$access.may).to.deep.equal({ update: false, delete: false })
    })

    it('leaves hidden fields out, record by record', async () => {
      const plots = await as(ana).list('plots', { access: true })
      expect(plots.find(({ id }) => id === 1)).to.include({ holderId: 1, notes: 'Water butt leaks at the tap.' })
      const foreign = plots.find(({ id }) => id === 2)
      expect(foreign).to.have.keys('id', 'siteId', 'number', 'areaM2', 'crop', '$access')
      expect(foreign?.$access.hidden).to.deep.equal(['holderId', 'notes'])
      expect(await as(noor).get('members', 1)).to.have.keys('id', 'name', 'joinedAt')
      expect(await as(eva).get('members', 1)).to.include({ email: 'ana@korenveld.example' })
    })

    it('counts and gets only what may be seen', async () => {
      expect(await as(dirk).count('rents')).to.equal(25)
      expect(await as(carla).count('rents')).to.equal(1)
      expect(await as(ben).get('entryShares', { entryId: 1, memberId: 2 })).to.include({ level: 'view' })
      expect(await refusalOf(as(ben).get('entries', 7))).to.include({ code: 'not-found', status: 404 })
      expect(await refusalOf(as(nobody).get('entries', 7))).to.include({ code: 'sign-in-required', status: 401 })
    })

    it('refuses a caller without any grant before a query is sent', async () => {
      expect(await refusalOf(as(ana).delete('sites', 1))).to.include({ status: 403 })
      expect(await refusalOf(as(dirk).act('rents', 'reopen', 1))).to.include({ status: 403 })
      expect(await refusalOf(as(nobody).list('jobs'))).to.include({ status: 401 })
      expect(await refusalOf(as(nobody).update('entries', 999, { title: 'x' }))).to.include({ status: 401 })
      expect(korenveld.sent).to.deep.equal([])
    })
  })

  describe('writes', () => {
    it('stores what is granted, with stamps', () =>
      korenveld.undone(async () => {
        const created = await as(ana).create('entries', NEW_ENTRY)
        expect(created).to.deep.include({ ...NEW_ENTRY, authorId: 1, createdAt: NOW, updatedAt: null })
        const updated = await as(ben).update('entries', 3, { title: 'Frost' })
        expect(updated).to.deep.include({ id: 3, title: 'Frost', updatedAt: NOW })
        await as(ana).delete('entries', 4)
        expect(await stored('entries', 4)).to.equal(undefined)
      }))

    it('refuses by name what may not be set, and writes nothing', async () => {
      const refusals: [Promise<unknown>, number, RegExp][] = [
        [as(ana).create('entries', { ...NEW_ENTRY, authorId: 2 }), 403, /authorId is set by the server/],
        [as(ana).create('entries', { ...NEW_ENTRY, authorId: 1 }), 403, /authorId is set by the server/],
        [as(ben).update('entries', 3, { title: 'Mine', audience: 'public' }), 403, /audience is not yours to set/],
        [as(ana).update('members', 1, { duties: ['treasurer'] }), 403, /duties is not yours to set/],
        [as(eva).update('members', 5, { duties: ['secretary', 'treasurer'] }), 403, /duties is not yours/],
        [as(ana).update('entries', 1, { id: 900 }), 403, /id is part of the key/],
        [as(ana).update('entries', 1, { updatedAt: new Date(0) }), 403, /updatedAt is set by the server/],
        [as(ben).update('entries', 2, { title: 'x' }), 403, /^You may not update this record of entries\.$/],
        [as(ben).update('entries', 7, { title: 'x' }), 404, /no such record/],
        [as(ben).delete('entries', 2), 403, /^You may not delete this record of entries\.$/],
        [as(carla).update('jobs', 3, { title: 'x' }), 403, /^A finished job cannot be changed or deleted\.$/],
        [
          as(dirk).create('entryShares', { entryId: 1, memberId: 4, level: 'edit' }),
          403,
          /^You may not create this record of entryShares\.$/,
        ],
        [as(noor).create('remarks', { entryId: 7, body: 'x' }), 403, /may not create/],
      ]
      for (const [attempt, status, message] of refusals) {
        const error = await refusalOf(attempt)
        expect(error.message).to.match(message)
        expect(error.status).to.equal(status)
      }
      expect(await stored('entries', 3)).to.include({ title: 'What the frost took', audience: 'private' })
      const { rows: counts } = await korenveld.store.query('SELECT count(*) AS n FROM entries', [])
      expect(Number(counts[0]?.['n'])).to.equal(korenveld.data['entries']?.length)
    })

    it('takes a visible value sent back unchanged as no change', async () => {
      const entry = await as(ben).get('entries', 3)
      expect(await as(ben).update('entries', 3, entry)).to.deep.equal(entry)
      expect((await stored('entries', 3))?.['updatedAt']).to.equal(null)
      // A form sends everything back; what the server sets is set all the same.
      await korenveld.undone(async () => {
        const changed = await as(ben).update('entries', 3, { ...entry, title: 'Frost' })
        expect(changed).to.deep.include({ title: 'Frost', updatedAt: NOW })
      })
    })

    it('lets no record be given away or pulled in', async () => {
      expect(await refusalOf(as(ana).update('plots', 1, { holderId: 2 }))).to.include({ status: 403 })
      // Carla is warden of Molenzicht: she hands out its plots, and no others.
      await korenveld.undone(() => as(carla).update('plots', 3, { holderId: 2 }))
      expect(await refusalOf(as(carla).update('plots', 13, { holderId: 3 }))).to.include({ status: 403 })
    })

    it('lets a paid rent be deleted by the treasurer alone', async () => {
      const paid = await refusalOf(as(eva).delete('rents', 1))
      expect(paid.message).to.equal('A paid rent cannot be deleted, except by the treasurer.')
      await korenveld.undone(() => as(dirk).delete('rents', 1))
      const owed = await refusalOf(as(dirk).delete('rents', 24))
      expect(owed.message).to.equal('Nobody deletes what they owe.')
    })

    it('keeps a reply in its thread', async () => {
      expect(await refusalOf(as(ana).create('remarks', { entryId: 6, replyToId: 1, body: 'x' }))).to.include({
        status: 403,
      })
      await korenveld.undone(() => as(ana).create('remarks', { entryId: 1, replyToId: 1, body: 'x' }))
    })
  })

  describe('bad input', () => {
    it('is an error of its own class, and nothing is run', async () => {
      const loose = korenveld.guard.as(ana) as unknown as Record<string, (...given: unknown[]) => Promise<unknown>>
      const call = (method: string, ...given: unknown[]) => refusalOf((async () => loose[method]?.(...given))())
      expect(await call('update', 'entries', 1, { titel: 'x', body: 7 }))
        .to.be.instanceOf(InputError)
        .with.property('message')
        .that.matches(/titel is not a field of entries; body must be text/)
      expect(await call('create', 'entries', { plotId: 1 }))
        .to.have.property('message')
        .that.matches(/title is missing/)
      expect(await call('update', 'entries', '1', { title: 'x' })).to.be.instanceOf(InputError)
      expect(await call('update', 'entries', 1, { title: 'a\0b' })).to.be.instanceOf(InputError)
      expect(await call('update', 'entries', 1, null)).to.be.instanceOf(InputError)
      expect(await call('list', 'entires')).to.be.instanceOf(UnknownNameError)
      expect(await call('list', '__proto__')).to.be.instanceOf(UnknownNameError)
      expect(await call('list', 'entries', { limit: -1 })).to.be.instanceOf(InputError)
      // What is wrong with values is told only to whoever may write at all, which has to be asked.
      expect(korenveld.sent.filter((text) => !text.startsWith('SELECT'))).to.deep.equal([])
    })

    it('is refused of callers too', () => {
      const as = korenveld.guard.as as (caller: unknown) => unknown
      expect(() => as({})).to.throw(CallerError, /no id, which must be an integer/)
      expect(() => as({ id: '1' })).to.throw(CallerError, /id is "1"; it must be an integer/)
      expect(() => as({ id: 1, roles: ['chair'] })).to.throw(UnknownNameError, /no role "chair"/)
      expect(() => as({ id: 1, admin: true })).to.throw(UnknownNameError, /no caller attribute "admin"/)
      expect(() => as({ ...anonymous, roles: ['treasurer'] } as never)).to.throw(CallerError)
      expect(() => as(null)).to.throw(CallerError)
    })

    it('stays a value, whatever it looks like', () =>
      korenveld.undone(async () => {
        const title = `'; DROP TABLE entries; -- "$1" \\`
        expect(await as(ana).update('entries', 1, { title })).to.include({ title })
        expect(korenveld.sent.join()).not.to.include('DROP')
      }))
  })

  it('takes no rules that nobody checked, and nothing that it does not know', async () => {
    const { store } = korenveld
    const parsed = JSON.parse(JSON.stringify(rules)) as typeof rules
    const damaged = JSON.parse(JSON.stringify(rules).replace('"name":"authorId"', '"name":"nobody"')) as typeof rules
    expect(() => createGuard({ rules: damaged, store })).to.throw(RulebookError, /no field "nobody"/)
    const guard = createGuard({ rules: parsed, store })
    // What is done to the data afterwards is done to the data alone.
    const { grants } = parsed.tables['rents'] as { grants: Record<string, unknown> }
    grants['read'] = [{ to: [{ kind: 'always' }] }]
    expect(await refusalOf(guard.as(nobody).list('rents'))).to.include({ status: 401 })
    const misnamed = [{ validator: {} }, { validators: { entris: {} } }, { validators: { entries: { change: {} } } }]
    for (const options of misnamed)
      expect(() => createGuard({ rules, store, ...(options as object) })).to.throw(UnknownNameError)
    const half = guard.as(ana).list('entries', { where: (row) => row.authorId.is(1) && row.audience.is('public') })
    expect((await refusalOf(half)).message).to.match(/where is refused: the condition “row.authorId is 1” is made/)
    const none = { entries: { create: undefined } } as never
    expect(() => createGuard({ rules, store, validators: none })).to.throw(RuleError, /none that speaks/)
    const mine = createGuard({ rules, store }).as(ana)
    const before = await stored('entries', 1)
    for (const options of [{ provide: () => false }, null, { provided: () => false, partly: true }]) {
      const refused = await refusalOf(mine.update('entries', 1, { title: 'Kale' }, options as never))
      expect(refused.status).to.be.oneOf([400, 422])
    }
    for (const options of [{ party: true }, null, { partly: 'no' }])
      expect(
        (await refusalOf(mine.updateMany('entries', [1], { title: 'Kale' }, options as never))).status,
      ).to.be.oneOf([400, 422])
    expect(await stored('entries', 1)).to.deep.equal(before)
  })

  it('refuses, loudly, when the database fails while deciding', async () => {
    const { createGuard } = await import('pachter')
    const failing = { ...korenveld.store, query: () => Promise.reject(new Error('connection lost')) }
    const guard = createGuard({ rules: korenveld.guard.rules, store: failing })
    const error = await refusalOf(guard.as(ana).update('entries', 1, { title: 'x' }))
    expect(error).to.include({ message: 'The database did not answer.', status: 500 })
    expect(inFull(error)).to.include('connection lost')
  })
})

describe('a connector of one’s own', () => {
  it('tells nothing of the database’s errors, whatever its promises are made of', async () => {
    const raw = Object.assign(new Error('column "secret" of notes'), { code: '42703' })
    // A promise of another make, as some drivers have.
    const failing = { then: (_: unknown, reject: (error: unknown) => void) => void reject(raw) } as never
    const store = sqlStore({ dialect: sqlite, query: () => failing, transaction: () => failing })
    const model = defineModel({ notes: { id: integer().key(), title: text() } })
    const rules = defineRules(model, defineCaller({ id: integer() }), {
      notes: ({ table, anyone }) => table.grants({ read: [anyone], delete: [anyone] }),
    })
    const mine = createGuard({ rules, store }).as({ id: 1 })
    for (const call of [
      mine.list('notes'),
      mine.delete('notes', 1),
      mine.transaction((inside) => inside.count('notes')),
    ]) {
      const error = await call.then(
        () => undefined,
        (each: unknown) => each,
      )
      expect(error).to.be.instanceOf(StoreError)
      expect(JSON.stringify(error)).not.to.match(/secret|42703/)
    }
  })
})
