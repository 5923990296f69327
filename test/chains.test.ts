import { expect } from 'chai'
import {
  boolean,
  createGuard,
  defineCaller,
  defineModel,
  defineRules,
  integer,
  predicate,
  references,
  RuleError,
} from 'pachter'
import { explain, openWorkbench, reachOfAll } from 'pachter/check'
import { print } from 'pachter/condition'
import type { RuleFunctions } from 'pachter/rules'
import { type Engine, engineNames, load, openEngines } from './support/engines.js'
import { refusalOf } from './support/korenveld.js'

// A bed in a bed in a bed; what may be done to a crop, whoever keeps a bed around it decides.
const model = defineModel({
  members: { id: integer().key() },
  beds: {
    id: integer().key().generated(),
    insideId: references('beds').optional(),
    keeperId: references('members').optional(),
    isLocked: boolean(),
    isDugUp: boolean(),
  },
  crops: { id: integer().key(), bedId: references('beds') },
})
const shape = defineCaller({ id: integer() })
const rules = defineRules(model, shape, {
  beds: ({ row, caller, table }) =>
    table
      .ties({ keeper: row.chain('insideId').some((bed) => bed.keeperId.is(caller.id)) })
      .grants({ read: ['keeper'], create: ['keeper'], update: [{ to: 'keeper', fields: ['insideId', 'isLocked'] }] })
      .gone(row.isDugUp.is(true)),
  crops: ({ row, caller, table }) =>
    table
      .ties({ keeper: row.bed.chain('insideId').some((bed) => bed.keeperId.is(caller.id)) })
      .grants({ read: ['keeper'], delete: ['keeper'] })
      .denies({
        locked: {
          on: 'delete',
          when: row.bed.chain('insideId').some((bed) => bed.isLocked.is(true)),
          message: 'A bed around it is locked.',
        },
      }),
})

/** More than MariaDB follows by itself. */
const DEEP = 1_100
const bed = (id: number, insideId: number | null, more: object = {}) => ({
  id,
  insideId,
  keeperId: null,
  isLocked: false,
  isDugUp: false,
  ...more,
})
const placed = (insideId: number) => ({ insideId, keeperId: null, isLocked: false, isDugUp: false })
/** Beds 1 to `deep` stand in one another, 1 outermost; 2,001 and 2,002 in each other; each has a crop. */
const dataOf = (deep: number) => {
  const beds = [
    ...Array.from({ length: deep }, (_, at) =>
      bed(at + 1, at || null, { ...(at === 0 && { keeperId: 1, isLocked: true }) }),
    ),
    bed(2001, 2002),
    bed(2002, 2001, { keeperId: 2 }),
    bed(3001, null, { keeperId: 3 }),
    bed(3002, 3001, { isDugUp: true }),
    bed(3003, 3002),
  ]
  return {
    members: [{ id: 1 }, { id: 2 }, { id: 3 }],
    beds,
    crops: beds.map(({ id }) => ({ id, bedId: id })),
  }
}

const guardOn = ({ store }: Pick<Engine, 'store'>, id: number) => createGuard({ rules, store }).as({ id })

describe('chains', () => {
  it(`go up as far as there is something above, end at circles and at what is gone, on ${engineNames.join(', ')}`, async () => {
    const data = dataOf(DEEP)
    const inMemory = (id: number) =>
      data.crops.filter(predicate(rules, { caller: { id }, action: 'list', table: 'crops', data })).length
    expect([1, 2, 3, 4].map(inMemory)).to.deep.equal([DEEP, 2, 1, 0])
    for (const engine of await openEngines()) {
      await load(engine, model, data)
      for (const id of [1, 2, 3, 4]) {
        expect(await guardOn(engine, id).count('crops'), `${engine.name} ${id}`).to.equal(inMemory(id))
      }
      const [mine, other, third] = [1, 2, 3].map((id) => guardOn(engine, id)) as [
        ReturnType<typeof guardOn>,
        ReturnType<typeof guardOn>,
        ReturnType<typeof guardOn>,
      ]
      expect(await mine.get('crops', DEEP), engine.name).to.deep.equal({ id: DEEP, bedId: DEEP })
      // A lock above holds however deep one hides below it.
      expect((await refusalOf(mine.delete('crops', DEEP))).message, engine.name).to.equal('A bed around it is locked.')
      await other.delete('crops', 2001)
      expect((await refusalOf(third.get('crops', 3003))).status, engine.name).to.equal(404)
      // Of a new record, what it is put into counts; and one moved out of the own chain would be given away.
      expect(await third.create('beds', placed(3001)), engine.name).to.deep.include({ id: 3004 })
      expect((await refusalOf(third.create('beds', placed(5)))).status, engine.name).to.equal(403)
      expect((await refusalOf(third.update('beds', 3004, { insideId: 5 }))).status, engine.name).to.equal(403)
      expect((await refusalOf(third.update('beds', 3004, { insideId: 3002 }))).status, engine.name).to.equal(403)
      // Asked for, in one's own condition.
      const found = await third.list('beds', {
        where: (row) => row.inside.chain('insideId').some((each) => each.id.is(3001)),
      })
      expect(
        found.map(({ id }) => id),
        engine.name,
      ).to.deep.equal([3004])
    }
  })

  it('say why, and how much each reaches', async () => {
    for (const engine of await openEngines()) {
      const { name, store } = engine
      await load(engine, model, dataOf(40))
      const bench = openWorkbench({ rules, store, callers: { one: { id: 2 }, other: { id: 4 } } })
      const crop = 2002
      const why = await explain(bench, { caller: 'one', table: 'crops', action: 'get', key: String(crop) })
      expect(JSON.stringify(why), name).to.include('beds 2002.keeperId is 2')
      const not = await explain(bench, { caller: 'other', table: 'crops', action: 'get', key: String(crop) })
      expect(JSON.stringify(not), name).to.match(/beds 2001\.keeperId is missing/)
      const everyone = { table: 'members', attributes: { id: 'id' } }
      const { reaches } = await reachOfAll(bench, everyone, ['crops'])
      expect(Object.fromEntries(reaches.map(({ key, total }) => [key, total])), name).to.deep.equal({
        1: 40,
        2: 2,
        3: 1,
      })
    }
  })

  it('are read, and refused where no database could follow them', () => {
    const { ties } = rules.tables['crops'] as (typeof rules)['tables'][string]
    expect(print(ties['keeper'] as never)).to.equal(
      'some record from row.bed up by insideId where keeperId is caller.id',
    )
    const refused =
      (
        crops: NonNullable<
          Parameters<
            typeof defineRules<typeof model, typeof shape, RuleFunctions<typeof model, typeof shape>>
          >[2]['crops']
        >,
      ) =>
      () =>
        defineRules(model, shape, { crops })
    expect(
      refused(({ row, table }) => table.ties({ x: row.bed.chain('keeperId' as never).some() }).grants({ read: ['x'] })),
    ).to.throw(RuleError, /no reference from beds to beds "keeperId"; known: insideId/)
    expect(
      refused(({ row, table }) =>
        table
          .ties({ x: row.bed.chain('insideId').some((each) => each.keeperId.is(row.id as never)) })
          .grants({ read: ['x'] }),
      ),
    ).to.throw(RuleError, /about them and the caller, and not about the record it starts from/)
    expect(() => defineModel({ a: { id: integer().key(), chain: integer() } })).to.throw(/a\.chain cannot be a field/)
  })
})
