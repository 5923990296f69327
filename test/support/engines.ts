import { PGlite } from '@electric-sql/pglite'
import Database from 'better-sqlite3'
import mysql from 'mysql2/promise'
import pg from 'pg'
import type { Data } from 'pachter'
import type { ModelData } from 'pachter/model'
import { columnNamed, createTables, insertRecord, resumeNumbers, tableNamed } from 'pachter/sql'
import { type SqlStore, sqlStore, withoutTrace } from 'pachter/sql'
import { mariadbStore } from 'pachter/connect/mariadb'
import { pgliteStore } from 'pachter/connect/pglite'
import { postgresqlStore } from 'pachter/connect/postgresql'
import { sqliteStore } from 'pachter/connect/sqlite'
import { letFillIn } from './filled.js'
import { available, startMariadb, startPostgresql } from './servers.js'

/** A database under test. */
export interface Engine {
  readonly name: string
  readonly store: SqlStore
  /** Where it is, for further connections; none inside the process. */
  readonly url?: string
  close(): Promise<void>
}

const openers: Readonly<Record<string, () => Promise<Engine>>> = {
  PGlite: async () => {
    const database = await PGlite.create()
    return { name: 'PGlite', store: pgliteStore(database), close: () => database.close() }
  },
  'better-sqlite3': async () => {
    const database = new Database(':memory:')
    return { name: 'better-sqlite3', store: sqliteStore(database), close: async () => void database.close() }
  },
  PostgreSQL: async () => {
    const server = await startPostgresql()
    // A zone that is nobody's: nothing may hang on it.
    const pool = new pg.Pool({ connectionString: server.url, options: '-c TimeZone=America/St_Johns' })
    return {
      name: 'PostgreSQL',
      url: server.url,
      // Tables are dropped and made anew under the same names all the time, which what is prepared would not fit.
      store: postgresqlStore(pool, { prepare: false }),
      close: () => pool.end().then(server.stop),
    }
  },
  MariaDB: async () => {
    const server = await startMariadb()
    const pool = mysql.createPool({ uri: server.url })
    return {
      name: 'MariaDB',
      url: server.url,
      store: mariadbStore(pool as never),
      close: () => pool.end().then(server.stop),
    }
  },
}

// Node has its own SQLite from version 22 on.
export const nodeSqlite = await import('node:sqlite' as string).catch(() => undefined)
const more: typeof openers = nodeSqlite
  ? {
      'node:sqlite': async () => {
        const database = new nodeSqlite.DatabaseSync(':memory:')
        return { name: 'node:sqlite', store: sqliteStore(database), close: async () => void database.close() }
      },
    }
  : {}

/** The engines that can be tested here; in CI, a server that is missing makes opening it fail. */
export const engineNames = [...Object.keys(openers), ...Object.keys(more)].filter((name) => {
  if (process.env['CI']) return true
  return name === 'PostgreSQL' ? available.postgresql : name === 'MariaDB' ? available.mariadb : true
})

let opened: Promise<readonly Engine[]> | undefined

/** Every engine that can be tested here, opened once for the whole run. */
export function openEngines(): Promise<readonly Engine[]> {
  opened ??= Promise.all(engineNames.map((name) => ({ ...openers, ...more })[name]?.() as Promise<Engine>))
  return opened
}

after(async () => {
  for (const engine of (await opened) ?? []) await engine.close()
})

/**
 * How columns are made odd: moments to the microsecond, texts that are equal where their case is not, and choices of a type
 * of their own.
 */
interface Odd {
  readonly setup?: readonly string[]
  readonly alter: string
  moment(column: string, at: number): string
  readonly text: string
  choice(column: string): string
  /** Adds microseconds to one that has none. */
  shift(table: string, column: string, by: number): string
}

const ODD: Readonly<Record<string, Odd>> = {
  PostgreSQL: {
    setup: [
      `CREATE COLLATION IF NOT EXISTS loosely (provider = icu, locale = 'und-u-ks-level2', deterministic = false)`,
      `DO $$ BEGIN CREATE TYPE words AS ENUM ('done', 'draft', 'Draft'); EXCEPTION WHEN duplicate_object THEN NULL; END $$`,
    ],
    alter: 'ALTER COLUMN',
    // Every other without a zone.
    moment: (column, at) =>
      at % 2 === 0 ? 'TYPE timestamptz(6)' : `TYPE timestamp(6) USING ${column} AT TIME ZONE 'UTC'`,
    text: 'TYPE text COLLATE loosely',
    choice: (column) => `TYPE words USING ${column}::words`,
    shift: (table, column, by) =>
      `SET ${column} = ${column} + ${by} * interval '1 microsecond' WHERE ctid = (SELECT ctid FROM ${table} WHERE ${column} = date_trunc('milliseconds', ${column}) LIMIT 1)`,
  },
  MariaDB: {
    alter: 'MODIFY',
    moment: () => 'DATETIME(6)',
    text: 'VARCHAR(255) CHARACTER SET utf8mb4 COLLATE utf8mb4_general_ci',
    choice: () => `ENUM('done', 'draft', 'Draft') CHARACTER SET utf8mb4 COLLATE utf8mb4_bin`,
    shift: (_, column, by) =>
      `SET ${column} = ${column} + INTERVAL ${by} MICROSECOND WHERE MICROSECOND(${column}) % 1000 = 0 LIMIT 1`,
  },
}

/**
 * Puts a model's tables and records into an engine, in place of what was there.
 *
 * @param isOdd whether columns are odd, where a database can have them so, and moments get microseconds on top, other ones
 * in each record
 */
export async function load({ name, store }: Engine, model: ModelData, data: Data, isOdd = false): Promise<void> {
  const { dialect } = store
  const odd = isOdd ? ODD[name] : undefined
  const names = { dialect, rulebook: { model } }
  const q = (table: string) => tableNamed(names, table)
  const columns = (table: string, types: readonly string[]) =>
    Object.entries(model.tables[table]?.fields ?? {}).flatMap(([field, { type, key, unique }]) =>
      types.includes(type) && !key && !unique ? [columnNamed(names, table, field)] : [],
    )
  for (const each of odd?.setup ?? []) await store.query(each, [])
  const statements = createTables(model, dialect)
  const makesSchema = (text: string) => /^(?:CREATE (?:SCHEMA|DATABASE)|ATTACH) /.test(text)
  const { rows: attached } = name.includes('sqlite') ? await store.query('PRAGMA database_list', []) : { rows: [] }
  const isThere = (text: string) => attached.some((row) => text.endsWith(dialect.identifier(String(row['name']))))
  for (const each of statements.filter(makesSchema)) if (!isThere(each)) await store.query(each, [])
  for (const table of Object.keys(model.tables)) await store.query(`DROP TABLE IF EXISTS ${q(table)}`, [])
  for (const each of statements) if (!makesSchema(each)) await store.query(each, [])
  await letFillIn(store, model)
  for (const [table, records] of Object.entries(data)) {
    for (const record of records) {
      const { text, values } = insertRecord(model, dialect, table, record)
      await store.query(text, [...values])
    }
    const resume = records.length > 0 ? resumeNumbers(model, dialect, table) : undefined
    if (resume !== undefined) await store.query(resume, [])
    if (odd) await makeOdd(odd, store, q(table), (...types) => columns(table, types), records.length)
  }
}

async function makeOdd(
  odd: Odd,
  store: SqlStore,
  table: string,
  columns: (...types: string[]) => readonly string[],
  records: number,
): Promise<void> {
  const alter = async (column: string, type: string) =>
    await store.query(`ALTER TABLE ${table} ${odd.alter} ${column} ${type}`, [])
  for (const each of columns('text')) await alter(each, odd.text)
  for (const each of columns('choice')) await alter(each, odd.choice(each))
  for (const [place, each] of columns('timestamp').entries()) {
    await alter(each, odd.moment(each, place))
    // Other than by the order in which they came, so that no order by the microsecond is that of the keys.
    for (let at = 0; at < records; at += 1)
      await store.query(`UPDATE ${table} ${odd.shift(table, each, ((at + 1) * 377) % 1000)}`, [])
  }
}

/** Runs something against a store and takes back whatever it wrote. */
export const undone = <T>(store: SqlStore, work: (store: SqlStore) => Promise<T>): Promise<T> =>
  withoutTrace(store, [], work)

/** A store of which work can be taken back that does not know of it: a guard over it is one and the same before and after. */
export function undoable(store: SqlStore) {
  let current = store
  return {
    store: sqlStore({
      dialect: store.dialect,
      query: (statement, values) => current.query(statement, values),
      transaction: (work) => current.transaction(work),
    }),
    undone: <T>(work: () => Promise<T>): Promise<T> =>
      undone(store, async (inside) => {
        current = inside
        try {
          return await work()
        } finally {
          current = store
        }
      }),
  }
}

/** Worlds shrink for long, and what CI found can be run again by its seed: there, the first that fails ends it. */
export const stopsAtFirst = process.env['CI'] !== undefined || process.env['PACHTER_SHRINK'] === 'no'
