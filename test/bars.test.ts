import { expect } from 'chai'
import {
  createGuard,
  defineCaller,
  defineModel,
  defineRules,
  integer,
  list,
  readRulebook,
  references,
  text,
  timestamp,
  trusted,
} from 'pachter'
import { explain, gatherGrid, mutantsOf, openFixture, openWorkbench, tryWrite } from 'pachter/check'
import type { RuleContext } from 'pachter/rules'
import { engineNames, load, openEngines } from './support/engines.js'
import { NOW, refusalOf } from './support/korenveld.js'

const model = defineModel({
  gardens: { id: integer().key(), name: text() },
  members: {
    id: integer().key(),
    gardenId: references('gardens'),
    duties: list(text()),
    leftAt: timestamp().optional(),
  },
  plots: {
    id: integer().key().generated(),
    gardenId: references('gardens'),
    holderId: references('members'),
    crop: text(),
    removedAt: timestamp().optional(),
    removedBy: references('members').optional(),
  },
  remarks: { id: integer().key().generated(), plotId: references('plots'), body: text() },
})

const caller = defineCaller(
  { id: integer(), gardenId: integer() },
  { roles: ['secretary'], record: { table: 'members', roles: 'duties' } },
)

const rules = defineRules(
  model,
  caller,
  {
    gardens: ({ anyone, table }) => table.grants({ read: [anyone] }),
    members: ({ row, signedIn, table }) => table.grants({ read: [signedIn] }).gone(row.leftAt.isSet()),
    plots: ({ row, caller: me, role, anyone, now, table }) =>
      table
        .ties({ holder: row.holderId.is(me.id), remarked: row.remarks.some((remark) => remark.body.is('mine')) })
        .grants({
          read: [anyone, { to: role('secretary'), gone: true }],
          create: [{ to: 'holder', fields: ['gardenId', 'holderId', 'crop'] }],
          update: [
            { to: 'holder', fields: ['crop', 'gardenId', 'removedAt'] },
            { to: role('secretary'), fields: ['removedAt'], gone: true },
          ],
          delete: ['holder', role('secretary')],
        })
        .gone(row.removedAt.isSet(), { onDelete: { removedAt: now, removedBy: me.id } })
        .conflicts('told'),
    remarks: ({ row, caller: me, anyone, table }) =>
      table
        .fence(row.plot.gardenId.is(me.gardenId))
        .ties({ holder: row.plot.holderId.is(me.id) })
        .grants({ read: [anyone], delete: ['holder'] }),
  },
  { fence: { field: 'gardenId', is: 'gardenId', outside: ['gardens'] } },
)

const past = new Date('2026-01-01T00:00:00Z')
const plot = (id: number, gardenId: number, holderId: number, removedAt: Date | null = null) => ({
  id,
  gardenId,
  holderId,
  crop: `crop ${id}`,
  removedAt,
  removedBy: null,
})
const data = {
  gardens: [1, 2].map((id) => ({ id, name: `Garden ${id}` })),
  members: [
    { id: 1, gardenId: 1, duties: [], leftAt: null },
    { id: 2, gardenId: 2, duties: [], leftAt: null },
    { id: 3, gardenId: 1, duties: ['secretary'], leftAt: null },
    { id: 4, gardenId: 1, duties: ['secretary'], leftAt: past },
  ],
  plots: [plot(1, 1, 1), plot(2, 2, 1), plot(3, 1, 1, past), plot(4, 1, 3)],
  remarks: [1, 2, 3, 4].map((plotId) => ({ id: plotId, plotId, body: 'mine' })),
}
const [ana, secretary, former] = [1, 3, 4].map((id) => ({ id, gardenId: 1 }))

describe('fences and records that are gone', () => {
  it(`hold for everybody and everything, on ${engineNames.join(', ')}`, async () => {
    for (const { name, ...engine } of await openEngines()) {
      await load({ name, ...engine }, model, data)
      const guard = createGuard({ rules, store: engine.store, clock: () => NOW, onDecision: () => undefined })
      const ids = async (who: object | undefined, table: 'plots' | 'remarks') =>
        (await guard.as(who as never).list(table)).map(({ id }) => id)
      expect(await ids(ana, 'plots'), name).to.deep.equal([1, 4])
      expect(await ids(secretary, 'plots'), name).to.deep.equal([1, 3, 4])
      expect(await ids({ id: 3, gardenId: 2 }, 'plots'), name).to.deep.equal([2])
      // Who has left has no duties any more.
      expect(await ids(former, 'plots'), name).to.deep.equal([1, 4])
      // No step leads to a plot that is gone, also not for whom it is not.
      for (const who of [ana, secretary]) expect(await ids(who, 'remarks'), name).to.deep.equal([1, 4])
      const [gone] = await guard.as(secretary as never).list('plots', {
        where: (row) => row.id.is(3),
        with: { remarks: true, holder: true },
      })
      expect(gone, name).to.deep.include({ remarks: [], holder: data.members[0] })
      const as = guard.as(ana as never)
      expect((await refusalOf(as.get('plots', 3))).status).to.equal(404)
      expect((await refusalOf(as.delete('plots', 2))).status).to.equal(404)
      expect((await refusalOf(as.update('plots', 1, { gardenId: 2 }))).status).to.equal(403)
      expect((await refusalOf(as.create('plots', { gardenId: 2, holderId: 1, crop: 'x' }))).status).to.equal(403)
      await as.delete('plots', 1)
      const left = await guard.as(trusted('look')).get('plots', 1)
      expect(left, name).to.deep.include({ removedAt: NOW, removedBy: 1 })
      expect((await refusalOf(as.delete('plots', 1))).status).to.equal(404)
      expect(await ids(ana, 'remarks'), name).to.deep.equal([4])
      // It can be brought back by whom a grant names for it, and by nobody else.
      expect((await refusalOf(as.update('plots', 1, { removedAt: null }))).status).to.equal(404)
      await guard.as(secretary as never).update('plots', 1, { removedAt: null })
      // Whoever may change what makes it gone may take it away so.
      expect(await as.update('plots', 1, { removedAt: NOW }), name).to.deep.equal({ id: 1 })
      expect(await guard.as(trusted('count')).count('plots'), name).to.equal(4)
    }
  })

  it('are seen where rules are looked at: what a delete leaves, and that nobody would notice without them', async () => {
    const { store, close } = await openFixture(model, data)
    const bench = openWorkbench({ rules, callers: { ana, secretary }, store, clock: () => NOW } as never)
    const { status, after } = await tryWrite(bench, {
      caller: 'ana',
      action: 'delete',
      table: 'plots',
      key: '1',
      values: {},
    })
    expect({ status, after }).to.deep.equal({ status: 200, after: { ...data.plots[0], removedAt: NOW, removedBy: 1 } })
    const { grants } = await explain(bench, { caller: 'secretary', action: 'get', table: 'remarks', key: '3' })
    expect(grants[0]?.when?.condition).to.equal(
      'row.plot.gardenId is caller.gardenId and row.plot.removedAt is missing',
    )
    await close()
    const changes = mutantsOf(rules).map(({ change }) => change)
    expect(changes).to.include.members([
      'plots: fence forgotten',
      'plots: nothing is gone',
      'plots: a delete removes',
      'plots: read grant 2 not for what is gone',
      'remarks: fence forgotten',
    ])
    expect(gatherGrid(rules, 'plots')[0]?.bars).to.have.length(2)
    expect(
      gatherGrid(rules)
        .filter(({ told }) => told)
        .map(({ table }) => table),
    ).to.deep.equal(['plots'])
  })

  it('are written so that none is forgotten, and refused where they could not hold', async () => {
    const own = { id: integer().key(), gardenId: integer(), removedAt: timestamp().optional() }
    const small = defineModel({ one: own, two: { id: integer().key(), oneId: references('one') } })
    const who = defineCaller({ id: integer(), gardenId: integer() })
    const options = { fence: { field: 'gardenId', is: 'gardenId' } } as const
    type Context = RuleContext<typeof small, typeof who, 'one'>
    const write =
      (table: (context: never) => unknown, more: object = {}) =>
      () =>
        defineRules(small, who, { one: table } as never, more)
    const wrong: [() => unknown, RegExp][] = [
      [write(({ table }: Context) => table, options), /two has no gardenId .* fence of its own, or name it among/],
      [write(({ table }: Context) => table, { fence: { field: 'gardenId', is: 'city' } }), /caller attribute "city"/],
      [write(({ row, caller: me, table }: Context) => table.gone(row.gardenId.is(me.gardenId))), /its own fields say/],
      [write(({ row, table }: Context) => table.gone(row.two.some((two) => two.id.is(1)))), /its own fields say/],
      [
        write(({ row, table }: Context) => table.gone(row.removedAt.isSet(), { onDelete: { gardenId: 1 } })),
        /does not make the record gone/,
      ],
      [
        write(({ table, anyone }: Context) => table.grants({ read: [{ to: anyone, gone: true }] })),
        /say when with gone/,
      ],
      [write(({ row, table }: Context) => table.fence(row.may('read'))), /cannot ask what somebody may do/],
      [
        write(({ row, table }: Context) => table.fence(row.two.some((two) => two.one.gardenId.is(1)))),
        /in a circle: one/,
      ],
    ]
    for (const [define, message] of wrong) {
      expect((await refusalOf(Promise.resolve().then(define))).message).to.match(message)
    }
    expect(readRulebook(JSON.stringify(rules))).to.deep.equal(JSON.parse(JSON.stringify(rules)))
  })
})
