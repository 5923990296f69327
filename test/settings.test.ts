import { PGlite } from '@electric-sql/pglite'
import Database from 'better-sqlite3'
import { expect } from 'chai'
import fc from 'fast-check'
import mysql from 'mysql2/promise'
import {
  anonymous,
  any,
  boolean,
  createGuard,
  defineCaller,
  defineModel,
  defineRules,
  inFull,
  integer,
  references,
  timestamp,
} from 'pachter'
import { mariadbStore } from 'pachter/connect/mariadb'
import { pgliteStore } from 'pachter/connect/pglite'
import { postgresqlStore } from 'pachter/connect/postgresql'
import { sqliteStore } from 'pachter/connect/sqlite'
import { createTables, type SqlStore } from 'pachter/sql'
import pg from 'pg'
import { refusalOf } from './support/korenveld.js'
import { type Engine, engineNames, load, nodeSqlite, openEngines, stopsAtFirst } from './support/engines.js'
import { sample } from './support/samples/drawn.js'
import { model, rules } from './support/samples/rules.js'

/** A store, set up as some application has it. */
interface SetUp {
  readonly store: SqlStore
  close(): unknown
}

const onMariadb =
  (options: object, set?: string) =>
  (url = ''): SetUp => {
    const pool = mysql.createPool({ uri: url, ...options } as mysql.PoolOptions)
    // What a session sets comes before whatever is asked in it.
    if (set) pool.pool.on('connection', (connection) => void connection.query(`SET SESSION ${set}`))
    return { store: mariadbStore(pool as never), close: () => pool.end() }
  }
const onPostgresql =
  (options: string) =>
  (url = ''): SetUp => {
    const pool = new pg.Pool({ connectionString: url, options })
    return { store: postgresqlStore(pool), close: () => pool.end() }
  }
/** Every statement of the process is read by these. */
const parsing =
  (parsers: Readonly<Record<number, (text: string) => unknown>>) =>
  (url = ''): SetUp => {
    const oids = Object.keys(parsers).map(Number)
    const before = oids.map((oid) => [oid, pg.types.getTypeParser(oid) as never] as const)
    for (const oid of oids) pg.types.setTypeParser(oid, parsers[oid] as never)
    const pool = new pg.Pool({ connectionString: url })
    const close = async () => {
      await pool.end()
      for (const [oid, parser] of before) pg.types.setTypeParser(oid, parser)
    }
    return { store: postgresqlStore(pool), close }
  }
const asIs = (text: string) => text
const onPglite = (options: object) => (): SetUp => {
  const database = new PGlite(options)
  return { store: pgliteStore(database), close: () => database.close() }
}
const parsersOf = (oids: readonly number[]) => Object.fromEntries(oids.map((oid) => [oid, asIs]))
const onSqlite = (setUp: (database: Database.Database) => unknown) => (): SetUp => {
  const database = new Database(':memory:')
  setUp(database)
  return { store: sqliteStore(database), close: () => database.close() }
}

const onNodeSqlite = (options: object) => (): SetUp => {
  const database = new nodeSqlite.DatabaseSync(':memory:', options)
  return { store: sqliteStore(database), close: () => database.close() }
}

const SETTINGS: Readonly<Record<string, Readonly<Record<string, (url?: string) => SetUp>>>> = {
  MariaDB: {
    texts: onMariadb({ dateStrings: true, jsonStrings: true, supportBigNumbers: true, bigNumberStrings: true }),
    numbers: onMariadb({ decimalNumbers: true, supportBigNumbers: true, timezone: '+02:00' }),
    rows: onMariadb({ rowsAsArray: true, nestTables: '_', namedPlaceholders: true, multipleStatements: true }),
    'no casting': onMariadb({ typeCast: false }),
    'own casting': onMariadb({ typeCast: (field: { string(): string | null }) => field.string() }),
    session: onMariadb(
      {},
      `time_zone = '+05:00', sql_mode = 'ANSI_QUOTES,NO_BACKSLASH_ESCAPES,PAD_CHAR_TO_FULL_LENGTH'`,
    ),
    modes: onMariadb(
      {},
      `sql_mode = 'HIGH_NOT_PRECEDENCE,PIPES_AS_CONCAT,IGNORE_SPACE,STRICT_ALL_TABLES', sql_auto_is_null = 1, sql_safe_updates = 1`,
    ),
  },
  PostgreSQL: {
    dates: onPostgresql('-c DateStyle=German,DMY -c TimeZone=Asia/Tokyo -c IntervalStyle=iso_8601'),
    bytes: onPostgresql('-c bytea_output=escape -c extra_float_digits=3 -c client_encoding=LATIN1'),
    strict: onPostgresql(
      '-c default_transaction_isolation=serializable -c transform_null_equals=on -c array_nulls=off',
    ),
    numbers: parsing({ 20: Number, 23: asIs, 701: asIs, 1700: parseFloat }),
    texts: parsing({ 16: asIs, 17: asIs, 20: asIs, 1009: asIs, 1016: asIs, 1114: asIs, 1184: asIs }),
    objects: parsing({ 20: BigInt, 114: asIs, 1082: (text) => new Date(text), 1184: () => ({}), 3802: asIs }),
  },
  PGlite: {
    texts: onPglite({ parsers: parsersOf([16, 17, 20, 23, 114, 701, 1009, 1016, 1114, 1184, 1700, 3802]) }),
  },
  'node:sqlite': { arrays: onNodeSqlite({ returnArrays: true, readBigInts: true }) },
  'better-sqlite3': {
    'safe integers': onSqlite((database) => database.defaultSafeIntegers(true)),
    pragmas: onSqlite((database) =>
      ["encoding = 'UTF-16'", 'reverse_unordered_selects = on', 'case_sensitive_like = on'].map((each) =>
        database.pragma(each),
      ),
    ),
  },
}

const idsOf = (records: readonly { readonly id: unknown }[]) => records.map(({ id }) => id)

const bellModel = defineModel({
  bells: { id: integer().key(), at: timestamp().optional(), until: timestamp().optional() },
})
const bells = defineRules(bellModel, defineCaller({ id: integer() }), {
  bells: ({ row, anyone, table }) =>
    table
      .conflicts('told')
      .ties({ open: any(row.until.isMissing(), row.at.below(row.until)) })
      .grants({ read: [anyone], create: ['open'], update: ['open'] }),
})
const earlyBells = defineRules(bellModel, defineCaller({ id: integer() }), {
  bells: ({ row, table }) =>
    table.ties({ early: row.at.atMost(new Date('2026-10-25T01:00:00Z')) }).grants({ read: ['early'] }),
})

const shedModel = defineModel({
  people: { id: integer().key() },
  sheds: { id: integer().key().generated(), ownerId: references('people'), open: boolean().optional() },
  shedKeys: { shedId: references('sheds').key(), personId: references('people').key() },
})
const sheds = defineRules(shedModel, defineCaller({ id: integer() }), {
  people: ({ anyone, table }) => table.grants({ read: [anyone] }),
  sheds: ({ row, caller, table }) =>
    table
      .ties({ owner: row.ownerId.is(caller.id), holder: row.shedKeys.some((key) => key.personId.is(caller.id)) })
      .grants({ read: ['owner', 'holder'], create: ['owner'], update: [{ to: 'holder', fields: ['open'] }] }),
  shedKeys: ({ row, caller, table }) =>
    table
      .conflicts('told')
      .ties({ owner: row.shed.ownerId.is(caller.id) })
      .grants({ read: ['owner'], create: ['owner'], delete: ['owner'] }),
})

describe('values, however an application has set up its driver and its sessions', () => {
  for (const name of engineNames.filter((each) => each in SETTINGS)) {
    it(`are those that were stored, on ${name}`, async () => {
      const engine = (await openEngines()).find((each) => each.name === name) as Engine
      await load(engine, model, { samples: [] })
      let next = 100n
      for (const [setting, open] of Object.entries(SETTINGS[name] ?? {})) {
        const { store, close } = open(engine.url)
        const everybody = createGuard({ rules, store }).as(anonymous)
        try {
          if (!engine.url) for (const statement of createTables(model, store.dialect)) await store.query(statement, [])
          await fc.assert(
            fc.asyncProperty(sample, async (values) => {
              const record = { id: (next += 2n) + 2n ** 60n, ...values }
              expect(await everybody.create('samples', record as never), setting).to.deep.equal(record)
              expect(await everybody.get('samples', record.id), setting).to.deep.equal(record)
              const [listed] = await everybody.list('samples', { where: (row) => row.id.is(record.id), access: true })
              expect(listed, setting).to.deep.include({ ...record })
              expect(listed?.$access.may, setting).to.deep.equal({ update: true, delete: false })
            }),
            { numRuns: 15, endOnFailure: stopsAtFirst },
          )
        } finally {
          await close()
        }
      }
    })
  }

  it('are refused where a driver would make others of them', () => {
    expect(() => postgresqlStore(new pg.Pool({ binary: true } as object))).to.throw(/set to binary reads other values/)
  })

  if (engineNames.includes('MariaDB')) {
    it('are refused where a session would make others of them, or keep what is written to itself', async () => {
      const engine = (await openEngines()).find(({ name }) => name === 'MariaDB') as Engine
      await load(engine, model, { samples: [] })
      const unfit = {
        'autocommit = 0': /autocommit is off/,
        'TRANSACTION ISOLATION LEVEL READ UNCOMMITTED': /a share counts that is never committed/,
        'sql_select_limit = 2': /lists end without a word/,
        [`sql_mode = 'EMPTY_STRING_IS_NULL'`]: /no text is empty/,
        'character_set_results = latin1': /does not speak utf8mb4/,
      }
      for (const [set, told] of Object.entries(unfit)) {
        const { store, close } = onMariadb({}, set)(engine.url)
        const everybody = createGuard({ rules, store }).as(anonymous)
        const work = [() => everybody.list('samples'), () => everybody.transaction((own) => own.list('samples'))]
        for (const each of work) expect(inFull(await refusalOf(each())), set).to.match(told)
        await close()
      }
    })

    it('are moments in UTC where MariaDB keeps them in the session’s zone', async () => {
      const { store, url } = (await openEngines()).find(({ name }) => name === 'MariaDB') as Engine
      await store.query('DROP TABLE IF EXISTS bells', [])
      await store.query('CREATE TABLE bells (id int PRIMARY KEY, at timestamp(3) NULL, until datetime(3))', [])
      const opened = ['+00:00', '-07:30'].map((zone) => onMariadb({}, `time_zone = '${zone}'`)(url))
      const stores = opened.map((each) => createGuard({ rules: bells, store: each.store }).as(anonymous))
      const at = new Date('2026-10-25T00:30:00.123Z')
      const later = new Date(at.getTime() + 3_600_000)
      try {
        for (const [place, everybody] of stores.entries()) {
          const [one, two] = [place * 10 + 1, place * 10 + 2]
          expect(await everybody.create('bells', { id: one, at, until: later })).to.deep.equal({
            id: one,
            at,
            until: later,
          })
          await everybody.create('bells', { id: two, at: later })
          // Only with moments that are later than another.
          expect(await everybody.update('bells', one, { at: later, until: new Date(later.getTime() + 1) })).to.include({
            id: one,
          })
          await everybody.update('bells', one, { at, until: later })
        }
        for (const [place, everybody] of stores.entries()) {
          // No column of this type holds moments from 2038 on.
          const tooLate = await refusalOf(everybody.create('bells', { id: 99, at: new Date('2050-01-01T00:00:00Z') }))
          expect(tooLate).to.include({ code: 'input-invalid', status: 422 })
          expect(await everybody.get('bells', 1)).to.deep.equal({ id: 1, at, until: later })
          expect(idsOf(await everybody.list('bells', { where: (row) => row.at.is(at) }))).to.deep.equal([1, 11])
          expect(idsOf(await everybody.list('bells', { where: (row) => row.at.above(at) }))).to.deep.equal([2, 12])
          expect(idsOf(await everybody.list('bells', { where: (row) => row.at.below(row.until) }))).to.deep.equal([
            1, 11,
          ])
          const sorted = await everybody.list('bells', { orderBy: 'at descending', after: { at: later, id: 12 } })
          expect(idsOf(sorted)).to.deep.equal([1, 11])
          const own = opened[place]?.store as SqlStore
          const early = createGuard({ rules: earlyBells, store: own }).as(anonymous)
          expect(idsOf(await early.list('bells'))).to.deep.equal([1, 11])
          const { text, values } = early.filter('bells', 'read', { alias: 'b' })
          const { rows } = await own.query(`SELECT b.id FROM bells AS b WHERE ${text} ORDER BY id`, [...values])
          expect(idsOf(rows as never)).to.deep.equal([1, 11])
        }
      } finally {
        for (const { close } of opened) await close()
        await store.query('DROP TABLE bells', [])
      }
    })
  }

  if (engineNames.includes('PostgreSQL')) {
    it('are written by a user of the database who may do no more than docs/guarantees.md says', async () => {
      const engine = (await openEngines()).find(({ name }) => name === 'PostgreSQL') as Engine
      const { store, url } = engine
      await load(engine, shedModel, { people: [{ id: 1 }, { id: 2 }], sheds: [], shedKeys: [] })
      const granted = [
        'CREATE ROLE few',
        'GRANT SELECT ON people, sheds, "shedKeys" TO few',
        'GRANT INSERT, UPDATE ON sheds TO few',
        'GRANT INSERT, DELETE, UPDATE ("shedId") ON "shedKeys" TO few',
      ]
      for (const statement of granted) await store.query(statement, [])
      const { store: own, close } = onPostgresql('-c role=few')(url)
      const guard = createGuard({ rules: sheds, store: own })
      const [ana, ben] = [guard.as({ id: 1 }), guard.as({ id: 2 })]
      try {
        const { id } = await ana.create('sheds', { ownerId: 1 })
        const give = () => ana.create('shedKeys', { shedId: id, personId: 2 })
        expect(inFull(await refusalOf(give()))).to.match(/did not do this. permission denied for table people/)
        await store.query('GRANT UPDATE (id) ON people TO few', [])
        await give()
        expect(await ben.update('sheds', id, { open: true })).to.include({ open: true })
        await ana.delete('shedKeys', { shedId: id, personId: 2 })
        expect(await refusalOf(ben.get('sheds', id))).to.include({ status: 404 })
      } finally {
        await close()
        for (const statement of ['DROP OWNED BY few', 'DROP ROLE few']) await store.query(statement, [])
      }
    })
  }
})
