import { type DriverRow, sqlite } from '../sql/index.js'
import { inTransaction } from './in-transaction.js'
import type { Connection, Store } from './store.js'

/** A statement as `better-sqlite3` prepares it. */
interface BetterStatement {
  readonly reader: boolean
  safeIntegers(on: boolean): BetterStatement
  all(...values: unknown[]): unknown[]
  run(...values: unknown[]): { changes: number | bigint }
}

/** A statement as Node's own `node:sqlite` prepares it. */
interface NodeStatement {
  setReadBigInts(on: boolean): void
  all(...values: never[]): unknown[]
}

/** The part of a `better-sqlite3` database, or of a `DatabaseSync` of `node:sqlite`, that is used. */
export interface SqliteDatabase {
  prepare(text: string): BetterStatement | NodeStatement
}

/**
 * A store in SQLite, through `better-sqlite3` or Node's own `node:sqlite`. The database stays yours to close.
 * It has one connection: statements of other requests wait until a transaction is over.
 *
 * @param database an open database
 * @example
 * import Database from 'better-sqlite3'
 * const store = sqliteStore(new Database('korenveld.db'))
 */
export function sqliteStore(database: SqliteDatabase): Store {
  const direct: Connection = { query: async (text, values) => run(database, text, values) }
  // The one connection is handed on from request to request, so that none slips into another's transaction.
  let turn: Promise<unknown> = Promise.resolve()
  const inTurn = <T>(work: () => Promise<T>): Promise<T> => {
    const mine = turn.then(work)
    turn = mine.catch(() => undefined)
    return mine
  }
  return {
    dialect: sqlite,
    query: (text, values) => inTurn(() => direct.query(text, values)),
    transaction: (work) => inTurn(() => inTransaction(direct, work)),
  }
}

function run(database: SqliteDatabase, text: string, values: readonly unknown[]) {
  const statement = database.prepare(text)
  if ('setReadBigInts' in statement) {
    statement.setReadBigInts(true)
    const rows = statement.all(...(values as never[])) as DriverRow[]
    return { rows, touched: rows.length }
  }
  if (!statement.reader) return { rows: [], touched: Number(statement.run(...values).changes) }
  const rows = statement.safeIntegers(true).all(...values) as DriverRow[]
  return { rows, touched: rows.length }
}
