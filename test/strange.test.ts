import { expect } from 'chai'
import {
  any,
  bigInteger,
  boolean,
  createGuard,
  date,
  decimal,
  defineCaller,
  defineModel,
  defineRules,
  float,
  inFull,
  integer,
  json,
  list,
  not,
  text,
  time,
  timestamp,
} from 'pachter'
import { readCatalogue } from 'pachter/adopt'
import { sqlStore } from 'pachter/sql'
import { type Engine, engineNames, openEngines } from './support/engines.js'
import { refusalOf } from './support/korenveld.js'

const model = defineModel({
  finds: {
    id: integer().key(),
    title: text(),
    dug: boolean().optional(),
    at: timestamp().optional(),
    day: date().optional(),
    hour: time().optional(),
    price: decimal(2).optional(),
    depth: float().optional(),
    number: integer().optional(),
    large: bigInteger().optional(),
    tags: list(text()).optional(),
    counts: list(integer()).optional(),
    note: json().optional(),
  },
})

/** The keeper sees all of it, visitors the title only. */
const rules = defineRules(model, defineCaller({ id: integer() }, { roles: ['keeper'] }), {
  finds: ({ table, role, signedIn }) =>
    table.grants({
      read: [role('keeper'), { to: signedIn, fields: ['title'] }],
      create: [role('keeper')],
      update: [{ to: signedIn, fields: ['title'] }],
      delete: [role('keeper')],
    }),
})
/** What is seen and written hangs on each of the fields, which nobody sees. */
const asking = defineRules(model, defineCaller({ id: integer() }, { roles: ['keeper'] }), {
  finds: ({ row, now, table }) =>
    table
      .ties({
        any: any(
          row.dug.is(true),
          row.at.below(now),
          row.day.above('2026-01-01'),
          row.hour.atMost('10:00:00'),
          row.price.above('1.00'),
          row.depth.below(1),
          row.number.oneOf([1, 2]),
          row.large.above(1n),
          row.tags.includes('a'),
          row.counts.includesAny([1, 2]),
          row.note.isSet(),
        ),
        none: any(
          not(row.dug.is(false)),
          not(row.at.above(now)),
          not(row.tags.includesAll(['a'])),
          not(row.counts.includes(1)),
          row.note.isMissing(),
        ),
      })
      .grants({
        read: [{ to: ['any', 'none'], fields: ['title'] }],
        update: [{ to: ['any', 'none'], fields: ['title'] }],
      }),
})
const keeper = { id: 1, roles: ['keeper' as const] }
const visitor = { id: 2 }

const POSTGRESQL = {
  columns:
    'dug boolean, at timestamptz, day date, hour time(0), price numeric(9, 3), depth float8, number numeric, large numeric, tags varchar(9)[], counts int[], note json',
  strange: {
    at: ["'infinity'", "'-infinity'", "'10000-01-01'", "'0044-03-15 BC'"],
    day: ["'infinity'", "'0044-03-15 BC'"],
    hour: ["'24:00:00'"],
    price: ["'1.234'", "'NaN'"],
    depth: ["'Infinity'"],
    number: ["'9007199254740993'", "'1.5'"],
    large: ['9223372036854775808', '-9223372036854775809', '1.5'],
    tags: ["'{NULL}'", "'{{a},{b}}'"],
    counts: ["'{1,NULL}'"],
  },
}
const ENGINES: Readonly<Record<string, typeof POSTGRESQL | { columns: string; strange: Record<string, string[]> }>> = {
  PGlite: POSTGRESQL,
  PostgreSQL: POSTGRESQL,
  MariaDB: {
    columns:
      'dug tinyint(1), at datetime, day date, hour time, price decimal(9, 3), depth double, number decimal(20, 1), large bigint unsigned, tags text, counts text, note text',
    strange: {
      dug: ['2', '-1'],
      at: ["'0000-00-00 00:00:00'", "'2026-00-00 00:00:00'"],
      day: ["'0000-00-00'"],
      hour: ["'26:00:00'", "'-01:00:00'"],
      price: ['1.234'],
      number: ['9007199254740993', '1.5'],
      large: ['9223372036854775808', '18446744073709551615'],
      tags: ["'{}'", "'[1]'", "'none'"],
      counts: ["'none'", "'[1.5]'"],
      note: ["'none'"],
    },
  },
  SQLite: {
    columns: 'dug, at, day, hour, price, depth, number, large, tags, counts, note',
    strange: {
      dug: ['2', "''", "'yes'"],
      at: ["'2026-11-26 09:30:00'", "'2026-11-26T09:30:00Z'", "'2026-13-26T09:30:00.000Z'", '1764149400', "''"],
      day: ["'26-11-2026'", '0', "'0000-00-00'"],
      hour: ["'9:30'", "'24:00:00'"],
      price: ['1.5', "'1.50 €'"],
      depth: ["'deep'", '9e999'],
      number: ['9007199254740993', '1.5', "'one'"],
      large: ['1.5', '9223372036854775808', "'one'"],
      tags: ["'{}'", "'none'", "'[1]'", '\'["a"\'', "x'00ff'"],
      counts: ["''", "'[1.5]'", "'1'"],
      note: ["'none'", "''"],
    },
  },
}

describe('what is stored that is no value of its field', () => {
  const onEach = async (work: (engine: Engine) => Promise<void>) => {
    // Of what columns are, a store of its own knows nothing yet.
    for (const engine of await openEngines()) await work({ ...engine, store: sqlStore(engine.store) })
  }

  it('is never read as another, and makes no difference to whoever does not see it', async function () {
    this.timeout(240_000)
    await onEach(async ({ name, store }) => {
      const { columns, strange } = (ENGINES[name] ?? ENGINES['SQLite']) as (typeof ENGINES)[string]
      const lax = name === 'MariaDB' ? "SET STATEMENT sql_mode = '' FOR " : ''
      await store.query('DROP TABLE IF EXISTS finds', [])
      await store.query(`CREATE TABLE finds (id int PRIMARY KEY, title varchar(99) NOT NULL, ${columns})`, [])
      const guard = createGuard({ rules, store, onDecision: () => undefined })
      for (const [field, values] of Object.entries(strange)) {
        for (const value of values) {
          await store.query('DELETE FROM finds', [])
          await store.query(`${lax}INSERT INTO finds (id, title, ${field}) VALUES (1, 'Shard', ${value})`, [])
          const at = `${name}: ${field} ${value}`
          const { tables } = await readCatalogue(store)
          const adopted = tables.find((each) => each.name === 'finds')?.columns.find((each) => each.name === field)
          expect({ ...adopted?.shape, optional: true }, at).not.to.deep.equal(model.tables['finds']?.fields[field])
          const all = guard.as(keeper)
          const few = guard.as(visitor)
          expect(await few.list('finds'), at).to.deep.equal([{ id: 1, title: 'Shard' }])
          expect(await few.update('finds', 1, { title: 'Shards' }), at).to.deep.equal({ id: 1, title: 'Shards' })
          const seeing = createGuard({ rules: asking, store, onDecision: () => undefined }).as(visitor)
          expect(await seeing.list('finds'), at).to.deep.equal([{ id: 1, title: 'Shards' }])
          expect(await seeing.update('finds', 1, { title: 'Sherd' }), at).to.deep.equal({ id: 1, title: 'Sherd' })
          for (const read of [() => all.list('finds'), () => all.get('finds', 1)]) {
            const error = await refusalOf(read())
            expect(error.message, at).to.equal('The database did not do this.')
            expect(inFull(error), at).to.contain(`What is stored in finds.${field} is not always`)
          }
          // On its own, a write is done when it is read; with others, all is taken back.
          const error = await refusalOf(all.update('finds', 1, { title: 'Coin' }))
          expect(error, at).to.include({ code: 'written-unread', status: 500 })
          expect(inFull(error), at).to.contain(`What is stored in finds.${field} is not always`)
          for (const together of [
            () => all.updateMany('finds', [1], { title: 'Lost' }),
            () => all.transaction((inside) => inside.update('finds', 1, { title: 'Lost' })),
          ]) {
            expect(await refusalOf(together()), at).to.include({ code: 'store-failed', status: 500 })
          }
          expect(await few.list('finds'), at).to.deep.equal([{ id: 1, title: 'Coin' }])
        }
      }
      await store.query('DROP TABLE finds', [])
    })
  })

  it('is taken as it is where only zeros are more or fewer', async () => {
    await onEach(async ({ name, store }) => {
      const { columns } = (ENGINES[name] ?? ENGINES['SQLite']) as (typeof ENGINES)[string]
      if (!columns.includes('price numeric') && !columns.includes('price decimal')) return
      await store.query('DROP TABLE IF EXISTS finds', [])
      await store.query(`CREATE TABLE finds (id int PRIMARY KEY, title varchar(99) NOT NULL, ${columns})`, [])
      await store.query("INSERT INTO finds (id, title, price) VALUES (1, 'Shard', 1.5), (2, 'Coin', 12.000)", [])
      const prices = await createGuard({ rules, store })
        .as(keeper)
        .list('finds', { fields: ['price'] })
      expect(prices.map(({ price }) => price)).to.deep.equal(['1.50', '12.00'])
      await store.query('DROP TABLE finds', [])
    })
  })
})

describe('a trigger that is against a write', () => {
  const TRIGGERS: Readonly<Record<string, readonly string[]>> = {
    PostgreSQL: [
      `CREATE OR REPLACE FUNCTION refuse() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN RAISE EXCEPTION 'no coins'; END $$`,
      `CREATE TRIGGER no_coins BEFORE INSERT ON finds FOR EACH ROW WHEN (NEW.title = 'Coin') EXECUTE FUNCTION refuse()`,
    ],
    MariaDB: [
      `CREATE TRIGGER no_coins BEFORE INSERT ON finds FOR EACH ROW IF NEW.title = 'Coin' THEN SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'no coins'; END IF`,
    ],
    SQLite: [
      `CREATE TRIGGER no_coins BEFORE INSERT ON finds WHEN NEW.title = 'Coin' BEGIN SELECT RAISE(ABORT, 'no coins'); END`,
    ],
  }
  it(`is a conflict, after which a transaction goes on, on ${engineNames.join(', ')}`, async () => {
    for (const { name, store: opened } of await openEngines()) {
      const store = sqlStore(opened)
      const kind = name === 'PGlite' ? 'PostgreSQL' : name in TRIGGERS ? name : 'SQLite'
      await store.query('DROP TABLE IF EXISTS finds', [])
      await store.query(
        `CREATE TABLE finds (id int PRIMARY KEY, title varchar(99) NOT NULL, ${ENGINES[kind]?.columns})`,
        [],
      )
      for (const statement of TRIGGERS[kind] ?? []) await store.query(statement, [])
      const all = createGuard({ rules, store, onDecision: () => undefined }).as(keeper)
      await all.transaction(async (inside) => {
        const error = await refusalOf(inside.create('finds', { id: 1, title: 'Coin' }))
        expect(error, name).to.include({ code: 'conflict', status: 409 })
        expect(inFull(error), name).to.contain('no coins')
        await inside.create('finds', { id: 1, title: 'Shard' })
      })
      expect(
        (await all.list('finds')).map(({ title }) => title),
        name,
      ).to.deep.equal(['Shard'])
      await store.query('DROP TABLE finds', [])
    }
  })
})

describe('a table whose engine takes nothing back', () => {
  it('is read and not written, by trusted code neither', async function () {
    this.timeout(120_000)
    const engine = (await openEngines()).find(({ name }) => name === 'MariaDB')
    if (!engine) return this.skip()
    // Another store: what is known of columns was read while the table was another.
    const store = sqlStore(engine.store)
    await store.query(
      `CREATE TABLE finds (id int PRIMARY KEY, title varchar(99) NOT NULL, ${ENGINES['MariaDB']?.columns}) ENGINE = MyISAM`,
      [],
    )
    await store.query("INSERT INTO finds (id, title) VALUES (1, 'Shard')", [])
    const guard = createGuard({ rules, store, onDecision: () => undefined })
    const all = guard.as(keeper)
    const writes = [
      () => all.create('finds', { id: 2, title: 'Coin' }),
      () =>
        all.createMany(
          'finds',
          [2, 2].map((id) => ({ id, title: 'Coin' })),
        ),
      () => all.update('finds', 1, { title: 'Coin' }),
      () => all.updateMany('finds', [1], { title: 'Coin' }),
      () => all.delete('finds', 1),
      () => all.transaction((inside) => inside.create('finds', { id: 2, title: 'Coin' })),
    ]
    for (const write of writes) {
      const error = await refusalOf(write())
      expect(error).to.include({ code: 'table-lasting', status: 500 })
      expect(error.message).to.match(/finds lasts.*use InnoDB/)
    }
    expect((await all.list('finds')).map(({ title }) => title)).to.deep.equal(['Shard'])
    await store.query('DROP TABLE finds', [])
  })
})
