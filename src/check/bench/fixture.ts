import { readdir, readFile } from 'node:fs/promises'
import { basename, extname, join } from 'node:path'
import { fileURLToPath } from 'node:url'
import { parse } from 'yaml'
import type { MemoryRecord } from '../../decide/index.js'
import {
  accepts,
  describeType,
  InputError,
  isMissing,
  type ModelData,
  PachterError,
  tableOf,
  UnknownNameError,
} from '../../model/index.js'
import { createTables, insertRecord, resumeNumbers, sqlStore, type SqlStore, withoutTrace } from '../../sql/index.js'
import { readWritten } from './values.js'
import { pgliteStore } from '../../connect/pglite.js'
import { sqliteStore } from '../../connect/sqlite.js'

/** All records by table: as JavaScript holds them, or as JSON does. */
export type Records = Readonly<Record<string, readonly MemoryRecord[]>>

/** A throw-away database with records, for tests. Its functions can be handed to a runner's hooks as they are. */
export interface Fixture {
  readonly store: SqlStore
  /** From here on, everything written can be taken back: for `beforeEach`. */
  readonly begin: () => Promise<void>
  /** Takes back everything written since `begin`: for `afterEach`. */
  readonly undo: () => Promise<void>
  readonly close: () => Promise<void>
}

/** The fixture was used in an order that makes no sense, or its database is not installed. */
export class FixtureError extends PachterError {
  readonly code = 'fixture-invalid'
}

/**
 * Opens a database in memory, with a model's tables and records.
 *
 * @param source the records, or the folder with a file for each table: `entries.json` or `entries.yaml`, a list each
 * @param engine `sqlite` (better-sqlite3) is the quicker one; `pglite` is PostgreSQL inside the process
 * @throws {UnknownNameError} where a file or a list of records is called like no table
 * @throws {InputError} where a record does not fit its table
 * @throws {FixtureError} where the database's package is not installed
 * @example
 * const fixture = await openFixture(model, new URL('data/', import.meta.url))
 * const guard = createGuard({ rules, store: fixture.store })
 * beforeEach(fixture.begin)
 * afterEach(fixture.undo)
 * after(fixture.close)
 */
export async function openFixture(
  model: ModelData,
  source: Records | URL | string,
  engine: 'sqlite' | 'pglite' = 'sqlite',
): Promise<Fixture> {
  const records =
    typeof source === 'string' || source instanceof URL ? await readRecords(model, source) : checkRecords(model, source)
  const { store, close } = await OPEN[engine]().catch((error: unknown) => {
    throw new FixtureError(
      `A fixture in ${engine} takes its package, which cannot be loaded: ${(error as Error).message}`,
    )
  })
  for (const statement of createTables(model, store.dialect)) await store.query(statement, [])
  await store.transaction(async (connection) => {
    for (const [table, all] of Object.entries(records)) {
      for (const record of all) {
        const { text, values } = insertRecord(model, store.dialect, table, record)
        await connection.query(text, [...values])
      }
      const resume = all.length > 0 ? resumeNumbers(model, store.dialect, table) : undefined
      if (resume !== undefined) await connection.query(resume, [])
    }
  })
  return isolated(store, close)
}

const OPEN = {
  sqlite: async () => {
    const { default: Database } = await import('better-sqlite3')
    const database = new Database(':memory:')
    return { store: sqliteStore(database), close: async () => void database.close() }
  },
  pglite: async () => {
    const { PGlite } = await import('@electric-sql/pglite')
    const database = await PGlite.create()
    return { store: pgliteStore(database), close: () => database.close() }
  },
}

/** Between `begin` and `undo`, all statements run inside a transaction that never commits. */
function isolated(store: SqlStore, close: () => Promise<void>): Fixture {
  let inside: { readonly store: SqlStore; readonly finish: () => void } | undefined
  let over = Promise.resolve()
  const current = (): SqlStore => inside?.store ?? store
  const listen = store.listen?.bind(store)
  return {
    store: sqlStore({
      dialect: store.dialect,
      query: (text, values) => current().query(text, values),
      transaction: (work) => current().transaction(work),
      ...(listen && { listen }),
      close,
    }),
    begin: () =>
      new Promise((resolve, reject) => {
        if (inside) return reject(new FixtureError('The fixture has begun already: call undo first.'))
        over = withoutTrace(
          store,
          [],
          (opened) =>
            new Promise<void>((finish) => {
              inside = { store: opened, finish }
              resolve()
            }),
        )
        over.catch(reject)
      }),
    undo: async () => {
      if (!inside) throw new FixtureError('There is nothing to undo: call begin first.')
      inside.finish()
      inside = undefined
      await over
    },
    close,
  }
}

/**
 * Reads records from files, one for each table: `entries.json` or `entries.yaml`. A table without a file has none.
 *
 * @throws {UnknownNameError} where a file is called like no table
 * @throws {InputError} where a record does not fit its table
 */
export async function readRecords(model: ModelData, folder: URL | string): Promise<Records> {
  const path = folder instanceof URL ? fileURLToPath(folder) : folder
  const files = (await readdir(path)).filter((file) => ['.json', '.yaml', '.yml'].includes(extname(file)))
  const read: Record<string, readonly MemoryRecord[]> = {}
  for (const file of files) {
    // JSON is YAML.
    read[basename(file, extname(file))] = parse(await readFile(join(path, file), 'utf8')) as readonly MemoryRecord[]
  }
  return checkRecords(model, read)
}

/** Records in the types of the model, tables in its order: what refers to others comes after them in most models. */
function checkRecords(model: ModelData, given: Records): Records {
  const tables = Object.keys(model.tables)
  for (const table of Object.keys(given)) {
    if (!tables.includes(table)) throw new UnknownNameError('table', table, tables)
  }
  return Object.fromEntries(
    tables.map((table) => [table, (given[table] ?? []).map((record, at) => checkRecord(model, table, record, at))]),
  )
}

function checkRecord(model: ModelData, table: string, record: MemoryRecord, at: number): MemoryRecord {
  const { fields } = tableOf(model, table)
  const problems: Record<string, string> = {}
  const values = Object.entries(record).map(([name, plain]) => {
    const field = fields[name]
    const value = field && !(plain instanceof Date) ? readWritten(field, plain) : plain
    if (!field) problems[name] = `of record ${at + 1} is not a field`
    else if (!isMissing(value) && !accepts(field, value))
      problems[name] = `of record ${at + 1} must be ${describeType(field)}`
    return [name, value ?? null] as const
  })
  if (Object.keys(problems).length > 0) throw new InputError(table, problems)
  return Object.fromEntries(values)
}
