import { expect, use } from 'chai'
import { anonymous, createGuard } from 'pachter'
import { pachterChai } from 'pachter/chai'
import {
  assertSees,
  assertSeesNone,
  everyoneIn,
  type Fixture,
  openFixture,
  openWorkbench,
  tryAs,
  whoSees,
} from 'pachter/check'
import { callers } from '../examples/allotment/callers.js'
import { readData } from '../examples/allotment/database.js'
import { model } from '../examples/allotment/model.js'
import { rules } from '../examples/allotment/rules.js'
import { NOW, refusalOf } from './support/korenveld.js'

use(pachterChai)

for (const engine of ['sqlite', 'pglite'] as const) {
  describe(`a fixture in ${engine}`, () => {
    let fixture: Fixture
    const guardOn = () => createGuard({ rules, store: fixture.store, clock: () => NOW })
    const as = (name: keyof typeof callers) => guardOn().as(callers[name])
    const entry = { plotId: 1, audience: 'private', title: 'Leeks', body: 'Twelve.' } as const
    before(async () => {
      fixture = await openFixture(model, await readData(), engine)
    })
    beforeEach(() => fixture.begin())
    afterEach(() => fixture.undo())
    after(() => fixture.close())

    it('takes back what each test writes, its transactions too', async () => {
      const { id } = await as('ana').create('entries', entry)
      await as('ana').transaction((store) => store.delete('entries', 1))
      await refusalOf(
        as('ana').transaction(async (store) => {
          await store.delete('entries', 2)
          throw new Error('taken back')
        }),
      )
      await expect(as('ana')).to.be.refused('read', 'entries', 1, { status: 404 })
      await expect(as('ana')).to.be.allowed('read', 'entries', 2)
      expect(id).to.equal(46)
    })

    it('is as it was in the next test, and numbers on', async () => {
      await expect(as('ana')).to.be.allowed('update', 'entries', 1, { title: 'Second leeks' })
      expect(await as('ana').get('entries', 1)).to.include({ title: 'First leeks in' })
      expect((await as('ana').create('entries', entry)).id).to.be.at.least(46)
    })

    it('asserts what callers see, may and may not do, with what differs', async () => {
      await expect(as('ana')).to.see('rents', [1, 25])
      await expect(as('ben')).to.see('entryShares', [
        { entryId: 1, memberId: 2 },
        { entryId: 3, memberId: 2 },
        { entryId: 5, memberId: 1 },
        { entryId: 7, memberId: 2 },
        { entryId: 21, memberId: 2 },
      ])
      await expect(as('ben')).not.to.see('entries', [45])
      await expect(as('nobody')).not.to.see('rents')
      await expect(as('ben')).to.have.hidden('members', 3, ['email', 'phone', 'duties'])
      await expect(as('ben')).to.be.refused('update', 'entries', 2, { values: { title: 'Mine' }, status: 403 })
      await expect(as('eva')).to.be.allowed('approve', 'applications', 1)
      await expect(as('dirk')).to.be.refused('settle', 'rents', 1)
      const failing: [Promise<void>, RegExp][] = [
        [expect(as('ana')).to.see('rents', [1, 7]), /Of rents, 25 should not be seen, and 7 should be seen/],
        [expect(as('ana')).not.to.see('entries', [1, 45]), /Of entries, 1, 45 should not be seen/],
        [
          expect(as('ben')).to.be.allowed('update', 'entries', 2),
          /update entries 2 should be allowed, and is refused \(403\)/,
        ],
        [expect(as('ana')).to.be.refused('update', 'entries', 1), /update entries 1 should be refused, and is allowed/],
        [
          expect(as('ben')).to.be.refused('delete', 'entries', 45, { status: 403 }),
          /refused with 403, and is with 404/,
        ],
        [expect(as('ben')).to.be.refused('delete', 'entries', 2, { message: 'tomorrow' }), /with another message/],
        [
          expect(as('ben')).to.have.hidden('members', 3, ['email']),
          /email should be hidden, and duties, email, phone is/,
        ],
        [assertSees(as('nobody'), 'rents' as never, [1]), /Of rents, 1 should be seen/],
        [assertSeesNone(as('ana'), 'rents' as never), /Of rents, 1, 25 should not be seen/],
        [expect(as('ana')).not.to.see('entryShares', [{ memberId: 2, entryId: 1 }]), /\(1, 2\) should not be seen/],
      ]
      for (const [promise, message] of failing) {
        const error = await refusalOf(promise).catch(() => expect.fail(`nothing was wrong: ${message}`))
        expect(error.message).to.match(message)
        expect(error.code).to.equal('expectation-failed')
      }
      expect((await refusalOf(expect(as('ana')).not.to.see('entries', ['one']))).code).to.equal('input-invalid')
      // A slip in the test is no refusal.
      expect((await refusalOf(expect(as('ben')).to.be.refused('update', 'entrys', 2))).code).to.equal('name-unknown')
      const slip = expect(as('ben')).to.be.refused('update', 'entries', 'x')
      expect((await refusalOf(slip)).message).to.match(/counts with status 422 only: .*id must be an integer/)
    })

    it('shows who gains and who loses sight by a write, and leaves no trace', async () => {
      const bench = openWorkbench({
        rules,
        callers,
        store: fixture.store,
        titles: { members: 'name' },
        clock: () => NOW,
      })
      const everyone = everyoneIn(rules)
      const opened = { caller: 'ana', table: 'entries', action: 'update', key: '1', values: { audience: 'public' } }
      const shown = await tryAs(bench, opened, everyone)
      expect(shown).to.deep.include({ status: 200, callers: { before: ['ana', 'ben'], after: Object.keys(callers) } })
      expect(shown.everyone).to.include({ table: 'members', size: 25 })
      expect(shown.everyone?.before).to.deep.equal(['Ana Brouwer', 'Ben Okafor'])
      expect(shown.everyone?.after).to.have.length(25)
      expect(shown.changes.map(({ field }) => field)).to.deep.equal(['audience', 'updatedAt'])
      expect(await whoSees(bench, everyone, 'entries', { id: 1 })).to.deep.equal(['Ana Brouwer', 'Ben Okafor'])
      const lost = await tryAs(bench, { ...opened, action: 'delete', values: {} }, everyone)
      expect(lost.callers).to.deep.equal({ before: ['ana', 'ben'], after: [] })
      const refused = await tryAs(bench, { ...opened, caller: 'ben' }, everyone)
      expect(refused).to.include({ status: 403 }).and.not.to.have.property('callers')
      const made = await tryAs(bench, { caller: 'ana', table: 'entries', action: 'create', values: entry })
      expect(made.callers).to.deep.equal({ before: [], after: ['ana'] })
      expect(await bench.everything.count('entries')).to.equal(45)
    })
  })
}

describe('fixtures', () => {
  it('refuse records that do not fit, and what is used out of order', async () => {
    const wrong: [object, RegExp][] = [
      [{ entrys: [] }, /no table "entrys"/],
      [{ sites: [{ id: 1, name: 'A', address: 7 }] }, /address of record 1 must be text/],
      [{ sites: [{ id: 1, name: 'A', street: 'B' }] }, /street of record 1 is not a field/],
    ]
    for (const [records, message] of wrong) {
      expect((await refusalOf(openFixture(model, records as never))).message).to.match(message)
    }
    const fixture = await openFixture(model, new URL('../examples/allotment/data/', import.meta.url))
    expect((await refusalOf(fixture.undo())).message).to.match(/call begin first/)
    await fixture.begin()
    expect((await refusalOf(fixture.begin())).message).to.match(/call undo first/)
    await fixture.undo()
    expect(await createGuard({ rules, store: fixture.store }).as(anonymous).count('sites')).to.equal(3)
    await fixture.close()
  })
})
