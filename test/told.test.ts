import { expect } from 'chai'
import mysql from 'mysql2/promise'
import {
  choice,
  createGuard,
  decide,
  defineCaller,
  defineModel,
  defineRules,
  inFull,
  integer,
  not,
  text,
  trusted,
} from 'pachter'
import { mariadbStore } from 'pachter/connect/mariadb'
import type { SqlStore } from 'pachter/sql'
import { engineNames, load, openEngines } from './support/engines.js'
import { refusalOf } from './support/korenveld.js'
import { data, model, packet } from './support/packets.js'

const caller = defineCaller({ id: integer() })

describe('what a caller is told', () => {
  it('tells why by what is seen of the record itself, and not by what a list would show of others', () => {
    const apart = defineRules(model, caller, {
      packets: ({ row, anyone, table }) =>
        table
          .ties({ open: row.state.is('open') })
          .grants({ list: ['open'], get: [{ to: anyone, fields: ['label'] }], delete: [anyone] })
          .denies({ kept: { on: 'delete', when: row.state.is('sealed'), message: 'Sealed.' } }),
    })
    const record = { ...packet, state: 'sealed' }
    const verdict = decide(apart, { caller: { id: 7 }, action: 'delete', table: 'packets', data, record })
    expect(verdict).to.include({ status: 403, message: 'You may not delete this record of packets.' })
  })

  it('tells nothing of a check by what a hidden field was, beside another that fails in any case', () => {
    const checked = defineRules(model, caller, {
      packets: ({ row, old, anyone, table }) =>
        table.grants({ read: [{ to: anyone, fields: ['state', 'label'] }], update: [anyone] }).checks(
          {},
          {
            fresh: { that: not(row.label.is(old.secret)), message: 'must be fresh', fields: ['label'] },
            sealed: { that: row.state.is('sealed'), message: 'must be sealed', fields: ['state'] },
          },
        ),
    })
    const told = (secret: string) => {
      const asked = { record: { ...packet, secret }, values: { label: 'Dill' } }
      return decide(checked, { caller: { id: 7 }, action: 'update', table: 'packets', data, ...asked }).invalid
    }
    expect([told('Dill'), told('Cress')]).to.deep.equal([{ state: 'must be sealed' }, { state: 'must be sealed' }])
  })

  it('tells of a new record by what was given, however it would be seen', () => {
    const given = defineRules(model, caller, {
      packets: ({ row, anyone, table }) =>
        table
          .ties({ ofAna: row.owner.name.is('Ana'), open: row.state.is('open') })
          .grants({
            read: [
              { to: 'ofAna', fields: ['label'] },
              { to: 'open', fields: ['state'] },
            ],
            create: [anyone],
          })
          .denies({ dill: { on: 'create', when: row.label.is('Dill'), message: 'No dill.' } })
          .conflicts('told'),
    })
    const values = { id: 2, ownerId: 7, state: 'open', label: 'Dill' }
    for (const name of ['Ana', 'Ben']) {
      const people = { people: [{ id: 7, name }], packets: [] }
      const asked = { caller: { id: 9 }, action: 'create', table: 'packets', data: people, values } as const
      expect(decide(given, asked).message).to.equal('No dill.')
    }
  })

  it('tells of a change by what was seen before it, however its outcome would be seen', () => {
    const changing = defineRules(model, caller, {
      packets: ({ row, anyone, table }) =>
        table
          .ties({ ofAna: row.owner.name.is('Ana'), open: row.state.is('open') })
          .grants({
            read: [
              { to: 'ofAna', fields: ['label'] },
              { to: 'open', fields: ['state', 'label'] },
              { to: anyone, fields: [] },
            ],
            update: [anyone],
          })
          .checks(
            {},
            {
              fresh: { that: not(row.label.is('Dill')), message: 'no dill', fields: ['label'] },
              ninth: { that: row.id.is(9), message: 'only the ninth', fields: ['id'] },
            },
          ),
    })
    const told = ['Ana', 'Ben'].map((name) => {
      const people = { people: [{ id: 7, name }], packets: [packet] }
      const values = { state: 'sealed', label: 'Dill' }
      const asked = {
        caller: { id: 9 },
        action: 'update',
        table: 'packets',
        data: people,
        record: packet,
        values,
      } as const
      return decide(changing, asked).invalid
    })
    expect(told).to.deep.equal(Array.from({ length: 2 }, () => ({ label: 'no dill', id: 'only the ninth' })))
  })

  it(`lets a unique value be left empty, which is never taken, on ${engineNames.join(', ')}`, async () => {
    const seeds = defineModel({
      seeds: { id: integer().key().generated(), ownerId: integer(), code: text().unique().optional() },
    })
    const own = defineRules(seeds, caller, {
      seeds: ({ row, caller: me, signedIn, table }) =>
        table
          .ties({ owner: row.ownerId.is(me.id) })
          .grants({ read: ['owner'], create: [signedIn], update: ['owner'] })
          .stamps({ create: { ownerId: me.id } }),
    })
    const stored = [
      { id: 1, ownerId: 8, code: null },
      { id: 2, ownerId: 7, code: 'B' },
    ]
    for (const engine of await openEngines()) {
      await load(engine, seeds, { seeds: stored })
      const ana = createGuard({ rules: own, store: { ...engine.store } }).as({ id: 7 })
      expect(await ana.create('seeds', { code: null }), engine.name).to.include({ ownerId: 7, code: null })
      expect(await ana.update('seeds', 2, { code: null }), engine.name).to.include({ code: null })
      const { message } = await refusalOf(ana.create('seeds', { code: 'A' }))
      expect(message).to.equal('You may not set code of seeds: code is not yours to choose.')
    }
  })

  it(`does not tell by what it stamps that a hidden record has the same, on ${engineNames.join(', ')}`, async () => {
    const seats = defineModel({
      seats: {
        id: integer().key().generated(),
        ownerId: integer(),
        note: text().optional(),
        row: integer().unique('side').optional(),
        side: choice('left', 'right').optional(),
      },
    })
    const seated = (conflicts?: 'told') =>
      defineRules(seats, caller, {
        seats: ({ row, caller: me, signedIn, table }) => {
          const own = table
            .actions('move')
            .ties({ owner: row.ownerId.is(me.id) })
            .grants({
              read: ['owner'],
              create: [signedIn],
              update: [{ to: 'owner', fields: ['note'] }],
              move: ['owner'],
            })
            .stamps({
              create: { ownerId: me.id, row: 3, side: 'right' },
              update: { side: 'right' },
              move: { side: 'right' },
            })
          return conflicts ? own.conflicts(conflicts) : own
        },
      })
    const mine = { id: 1, ownerId: 7, note: 'Mine.', row: 3, side: 'left' }
    const other = { id: 2, ownerId: 8, note: null, row: 3, side: 'right' }
    for (const engine of await openEngines()) {
      const told = async (conflicts: 'told' | undefined, ...stored: object[]) => {
        await load(engine, seats, { seats: stored as never })
        const ana = createGuard({ rules: seated(conflicts), store: { ...engine.store } }).as({ id: 7 })
        const answers = [
          ana.create('seats', { note: 'New.' }),
          ana.update('seats', 1, { note: 'Yours.' }),
          ana.act('seats', 'move', 1),
        ]
        const statuses = await Promise.all(
          answers.map((each) =>
            each.then(
              () => 200,
              ({ status }: { readonly status: number }) => status,
            ),
          ),
        )
        // What changes nothing sets nothing, and what is set to what is seen to be there takes nothing.
        expect(await ana.update('seats', 1, { note: 'Mine.' }), engine.name).to.include({ side: 'left' })
        return statuses
      }
      for (const stored of [[mine], [mine, other]])
        expect(await told(undefined, ...stored), engine.name).to.deep.equal([403, 403, 403])
      expect(await told('told', mine, other), engine.name).to.deep.equal([409, 409, 409])
      await load(engine, seats, { seats: [{ ...mine, side: 'right' }] as never })
      const ana = createGuard({ rules: seated(), store: { ...engine.store } }).as({ id: 7 })
      expect(await ana.update('seats', 1, { note: 'Yours.' }), engine.name).to.include({ note: 'Yours.' })
      const refused = await refusalOf(ana.create('seats', { note: 'New.' }))
      expect(refused.message).to.equal('You may not create this record of seats.')
      expect(inFull(refused)).to.match(/Whether .*(row|side).* would fit might tell .*conflicts\('told'\)/)
    }
    const removing = (conflicts: boolean) => () =>
      defineRules(seats, caller, {
        seats: ({ row, table }) => {
          const gone = table.gone(row.side.is('right'), { onDelete: { side: 'right' } })
          return conflicts ? gone.conflicts('told') : gone
        },
      })
    expect(removing(false)).to.throw(/a delete sets side, which is unique/)
    expect(removing(true)).not.to.throw()
  })

  it(`does not tell by what an update sets that a hidden field was so already, on ${engineNames.join(', ')}`, async () => {
    const hiding = defineRules(model, caller, {
      packets: ({ anyone, table }) =>
        table
          .grants({
            read: [{ to: anyone, fields: ['state', 'label'] }],
            update: [{ to: anyone, fields: ['secret', 'label'] }],
          })
          .stamps({ update: { state: 'sealed' } }),
    })
    const found = async (store: SqlStore, secret: string) => {
      const mine = createGuard({ rules: hiding, store, onDecision: () => undefined }).as({ id: 7 })
      await store.query("UPDATE packets SET secret = 'Dill', state = 'open'", [])
      const seen = await mine.update('packets', 1, { secret })
      expect(await mine.update('packets', 1, { secret })).to.deep.equal(seen)
      // As it is seen to be, it is left.
      await store.query("UPDATE packets SET state = 'open'", [])
      const left = await mine.update('packets', 1, { label: packet.label })
      return [seen, left]
    }
    for (const engine of await openEngines()) {
      await load(engine, model, { packets: [{ ...packet, ownerId: null }] })
      // Some tell by default of what they changed only.
      const pool = engine.name === 'MariaDB' && mysql.createPool({ uri: engine.url, flags: ['-FOUND_ROWS'] } as object)
      for (const store of [engine.store, ...(pool ? [mariadbStore(pool as never)] : [])]) {
        for (const secret of ['Dill', 'Cress', 'Cress']) {
          expect(await found(store, secret), `${engine.name}: ${secret}`).to.deep.equal([
            { id: 1, state: 'sealed', label: packet.label },
            { id: 1, state: 'open', label: packet.label },
          ])
        }
        // Whom the rules do not bind sees all.
        const free = createGuard({ rules: hiding, store, onDecision: () => undefined }).as(trusted('to set it right'))
        expect(await free.update('packets', 1, { secret: 'Cress' }), engine.name).to.include({ state: 'open' })
      }
      if (pool) await pool.end()
    }
  })

  it('tells of what is unique, be it a part of the key', () => {
    const beds = defineModel({ beds: { row: integer().key().unique(), side: integer().key() } })
    const left = defineRules(beds, caller, {
      beds: ({ row, table }) => table.ties({ left: row.side.is(1) }).grants({ read: ['left'], create: ['left'] }),
    })
    // Whether a bed on the other side has this row, is not seen.
    const asked = {
      caller: { id: 7 },
      action: 'create',
      table: 'beds',
      data: { beds: [] },
      values: { row: 1, side: 1 },
    }
    expect(decide(left, asked)).to.include({ status: 403 })
    expect(
      decide({ ...left, tables: { beds: { ...left.tables['beds'], conflicts: 'told' } } } as never, asked),
    ).to.include({ status: 200 })
    // What the database fills in is known of a record that is there, and of no new one.
    const filled = defineModel({
      beds: { id: integer().key().generated(), row: integer().unique('side'), side: integer().defaulted() },
    })
    const byDefault = defineRules(filled, caller, {
      beds: ({ row, table, signedIn }) =>
        table.ties({ left: row.side.is(1) }).grants({ read: ['left'], create: [signedIn], update: ['left'] }),
    })
    const about = (action: string, values: object) =>
      decide(byDefault, {
        caller: { id: 7 },
        action,
        table: 'beds',
        data: { beds: [] },
        record: { id: 1, row: 1, side: 1 },
        values: values as never,
      }).status
    expect([
      about('update', { row: 2 }),
      about('create', { row: 2, side: 1 }),
      about('create', { row: 2 }),
    ]).to.deep.equal([200, 200, 403])
  })
})
