import { sqlStore } from 'pachter/sql'
import { expect } from 'chai'
import { createGuard } from 'pachter'
import { callers } from '../examples/allotment/callers.js'
import { readData } from '../examples/allotment/database.js'
import { model } from '../examples/allotment/model.js'
import { rules } from '../examples/allotment/rules.js'
import { type Engine, engineNames, load, openEngines } from './support/engines.js'
import { NOW, refusalOf } from './support/korenveld.js'

const { nobody, ana, ben, carla, eva } = callers
const leeks = { plotId: 1, audience: 'private', title: 'Leeks', body: 'Sown.' } as const

const guardOf = (store: Engine['store']) => createGuard({ rules, store, clock: () => NOW })

type Scoped = ReturnType<ReturnType<typeof guardOf>['as']>

describe(`writes on ${engineNames.join(', ')}`, () => {
  let engines: readonly Engine[]
  before(async () => {
    engines = await openEngines()
  })
  beforeEach(async () => {
    const data = await readData()
    for (const engine of engines) {
      await load(engine, model, data)
      if (engine.store.dialect.name !== 'postgresql') continue
      for (const table of ['entries', 'remarks']) {
        await engine.store.query(`SELECT setval(pg_get_serial_sequence('"${table}"', 'id'), 1000)`, [])
      }
    }
  })

  const onEach = async (check: (as: (caller: (typeof callers)[keyof typeof callers]) => Scoped) => Promise<void>) => {
    for (const { store } of engines) await check((caller) => guardOf(store).as(caller))
  }

  it('store several records, all or none, or those permitted', () =>
    onEach(async (as) => {
      const before = await as(ana).count('entries')
      const bad = [leeks, { ...leeks, authorId: 2 }, { ...leeks, title: '' }]
      const refused = await refusalOf(as(ana).createMany('entries', bad))
      expect(refused).to.deep.include({ code: 'bulk-refused', status: 403 })
      expect(refused.message).to.match(/2 of the records of entries were refused. 1: .*authorId is set.* 2: .*title/)
      expect(await as(ana).count('entries')).to.equal(before)
      const odd = await refusalOf(as(ana).createMany('entries', [leeks, null as never, leeks]))
      expect(
        (odd as never as { refusals: { key: unknown; status: number }[] }).refusals.map(({ key, status }) => [
          key,
          status,
        ]),
      ).to.deep.equal([[1, 422]])
      const partly = await as(ana).createMany('entries', bad, { partly: true })
      expect(partly.refused.map(({ key, status }) => [key, status])).to.deep.equal([
        [1, 403],
        [2, 422],
      ])
      expect(partly.written[0]).to.include({ title: 'Leeks', authorId: 1 })
      expect(await as(ana).createMany('entries', [leeks, leeks])).to.have.length(2)
      expect(await as(ana).count('entries')).to.equal(before + 3)
    }))

  it('change and remove several records, all or none, or those permitted', () =>
    onEach(async (as) => {
      const own = (await as(ana).list('entries', { where: (row) => row.may('delete') })).map(({ id }) => id)
      const [first, second, third] = own as [number, number, number]
      const changed = await as(ana).updateMany('entries', [second, first, second], { title: 'Both' })
      expect(changed.map(({ id, title }) => [id, title])).to.deep.equal(
        [second, first, second].map((id) => [id, 'Both']),
      )
      // Saying again what is so already is no change, and no refusal.
      expect(await as(ana).updateMany('entries', [first, third], { title: 'Both' })).to.have.length(2)
      const mixed = [first, 7, 999]
      expect((await refusalOf(as(ana).deleteMany('entries', mixed))).message).to.match(/2 of .*7: .*999: There is no/)
      expect(await as(ana).get('entries', first)).to.include({ id: first })
      const partly = await as(ana).updateMany('entries', mixed, { title: 'Mine' }, { partly: true })
      expect(partly.written).to.have.length(1)
      expect(partly.refused.map(({ key, status }) => [key, status])).to.deep.equal([
        [7, 404],
        [999, 404],
      ])
      await as(ana).deleteMany('entries', own)
      expect(await as(ana).count('entries', { where: (row) => row.authorId.is(1) })).to.equal(0)
      const many = await as(ana).createMany(
        'entries',
        Array.from({ length: 70 }, () => leeks),
      )
      expect(
        await as(ana).deleteMany(
          'entries',
          many.map(({ id }) => id),
          { partly: true },
        ),
      ).to.deep.include({ refused: [] })
    }))

  it('store and change many by few statements, as they would one after another', async () => {
    for (const { store } of engines) {
      const sent: string[] = []
      const counted = sqlStore({
        ...store,
        query: (text, values) => (sent.push(text), store.query(text, values)),
        transaction: (work) =>
          store.transaction((inside) =>
            work({ query: (text, values) => (sent.push(text), inside.query(text, values)) }),
          ),
      })
      const as = guardOf(counted).as(ana)
      const numbers = Array.from({ length: 150 }, (_, at) => at)
      const entries = numbers.map((at) =>
        at % 3 === 0
          ? ({ plotId: 1, audience: 'private', title: `No. ${at}`, body: `${at}` } as const)
          : { ...leeks, title: `No. ${at}` },
      )
      await as.createMany('entries', entries.slice(0, 2))
      sent.length = 0
      const made = await as.createMany('entries', entries)
      expect(made.map(({ title, body }) => [title, body])).to.deep.equal(
        entries.map(({ title, body }) => [title, body]),
      )
      expect(sent.length, store.dialect.name).to.be.below(20)
      const ids = made.map(({ id }) => id)
      sent.length = 0
      const changed = await as.updateMany('entries', ids, { title: 'The same' })
      expect(changed.map(({ id, title }) => [id, title])).to.deep.equal(ids.map((id) => [id, 'The same']))
      expect(sent.length, store.dialect.name).to.be.below(20)
      // What may be told of one share hangs on others: these are stored one by one. One that is refused takes all back.
      const shares = ids.map((entryId) => ({ entryId, memberId: 2, level: 'view' }) as const)
      const shared = await as.createMany('entryShares', shares)
      expect(shared.map(({ entryId }) => entryId)).to.deep.equal(ids)
      const bad = [
        ...shares.map((share) => ({ ...share, memberId: 3 })),
        { entryId: 7, memberId: 3, level: 'view' } as const,
      ]
      const refused = await refusalOf(as.createMany('entryShares', bad))
      expect((refused as never as { refusals: { key: unknown }[] }).refusals.map(({ key }) => key)).to.deep.equal([150])
      expect(await as.count('entryShares', { where: (row) => row.memberId.is(3) })).to.equal(
        await guardOf(store)
          .as(ana)
          .count('entryShares', { where: (row) => row.memberId.is(3) }),
      )
    }
  })

  it('are looked at by validators once, whether they are stored together or one by one', async () => {
    let looked = 0
    const validate = () => ((looked += 1), {})
    const validators = { entries: { create: { '~standard': { version: 1, validate } } } } as const
    for (const { store } of engines) {
      const as = createGuard({ rules, store, validators, clock: () => NOW }).as(ana)
      looked = 0
      expect(await as.createMany('entries', [leeks, leeks, leeks])).to.have.length(3)
      expect(looked).to.equal(3)
      await refusalOf(as.createMany('entries', [leeks, { ...leeks, authorId: 2 }]))
      expect(looked).to.equal(5)
    }
  })

  it('do what is a table’s own to several records', () =>
    onEach(async (as) => {
      const waiting = await as(eva).list('applications', { where: (row) => row.may('approve') })
      const keys = waiting.map(({ id }) => id)
      expect(await refusalOf(as(ana).actMany('applications', 'approve', keys))).to.include({ status: 404 })
      const decided = (await as(eva).list('applications', { where: (row) => row.status.is('declined'), limit: 1 }))[0]
      const mixed = await refusalOf(as(eva).actMany('applications', 'approve', [...keys, decided?.id ?? 0]))
      expect(mixed.message).to.match(/1 of .*This application has been decided/)
      const approved = await as(eva).actMany('applications', 'approve', keys)
      expect(approved.map(({ status }) => status)).to.deep.equal(keys.map(() => 'approved'))
    }))

  it('store or change by key, as the rules for a create or an update have it', () =>
    onEach(async (as) => {
      const share = { entryId: 1, memberId: 6, level: 'view' } as const
      expect(await as(ana).upsert('entryShares', share)).to.include(share)
      expect(await as(ana).upsert('entryShares', { ...share, level: 'edit' })).to.include({ level: 'edit' })
      expect(await refusalOf(as(ben).upsert('entryShares', { ...share, memberId: 2, level: 'edit' }))).to.include({
        status: 403,
      })
      // A hidden one is as one that is not there: and that, he may not create.
      expect(await refusalOf(as(ben).upsert('entryShares', share))).to.include({ status: 403 })
      const absent = await refusalOf(as(ben).upsert('entryShares', { ...share, memberId: 7 }))
      expect(absent).to.include({
        status: 403,
        message: (await refusalOf(as(ben).upsert('entryShares', share))).message,
      })
      expect(await refusalOf(as(nobody).upsert('entryShares', share))).to.include({ status: 401 })
      const twice = await refusalOf(as(ana).create('entryShares', share))
      expect(twice).to.include({ code: 'conflict', status: 409 })
      expect(twice.message).to.equal('What is stored already stands in the way of this; nothing was written.')
    }))

  it('are done provided that somebody says so', () =>
    onEach(async (as) => {
      const { id } = await as(ana).create('entries', leeks)
      const told = (provided: () => boolean) =>
        refusalOf(as(ana).update('entries', id, { title: 'Kale' }, { provided }))
      expect(await told(() => false)).to.include({ code: 'changed', status: 412 })
      // A promise of a no is no yes.
      expect(await told((() => Promise.resolve(false)) as never)).to.include({ code: 'input-invalid', status: 422 })
      expect(await as(ana).get('entries', id)).to.include({ title: 'Leeks' })
      const isLeeks = ({ title }: { readonly title?: string | undefined }) => title === 'Leeks'
      await as(ana).update('entries', id, { title: 'Kale' }, { provided: isLeeks })
      expect(await as(ana).get('entries', id)).to.include({ title: 'Kale' })
    }))

  it('belong together in a transaction, and parts of it can be taken back', () =>
    onEach(async (as) => {
      const before = await as(ana).count('entries')
      const failed = await refusalOf(
        as(ana).transaction(async (inside) => {
          const { id } = await inside.create('entries', leeks)
          await inside.create('entryShares', { entryId: id, memberId: 2, level: 'view' })
          expect(await inside.count('entries')).to.equal(before + 1)
          await inside.update('entries', id, { authorId: 2 })
        }),
      )
      expect(failed).to.include({ status: 403 })
      expect(await as(ana).count('entries')).to.equal(before)
      const kept = await as(ana).transaction(async (inside) => {
        const entry = await inside.create('entries', leeks)
        expect(await refusalOf(inside.deleteMany('entries', [entry.id, 7]))).to.include({ code: 'bulk-refused' })
        const share = { entryId: entry.id, memberId: 2, level: 'view' } as const
        await inside.upsert('entryShares', share)
        await inside.transaction((deeper) => deeper.upsert('entryShares', { ...share, level: 'edit' }))
        return entry
      })
      expect(await as(ben).get('entries', kept.id)).to.include({ title: 'Leeks' })
      expect(await as(carla).count('entries', { where: (row) => row.id.is(kept.id) })).to.equal(0)
    }))
})
