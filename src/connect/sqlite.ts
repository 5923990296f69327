import { type Connection, type DriverRow, sqlite, sqlStore, type SqlStore } from '../sql/index.js'
import { inTransaction } from './in-transaction.js'
import { OneConnection } from './one-connection.js'

/** A statement as `better-sqlite3` prepares it. */
interface BetterStatement {
  readonly reader: boolean
  safeIntegers(are: boolean): unknown
  all(...values: unknown[]): unknown[]
  run(...values: unknown[]): { changes: number | bigint }
}

/** A statement as Node's own `node:sqlite` prepares it. */
interface NodeStatement {
  setReadBigInts(are: boolean): unknown
  /** From Node 24 on. */
  setReturnArrays?(are: boolean): unknown
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
export function sqliteStore(database: SqliteDatabase): SqlStore {
  const prepare = preparer(database)
  const direct: Connection = { query: (text, values) => prepare(text)(values) }
  // The one connection is handed on from request to request, so that none slips into another's transaction.
  let turn: Promise<unknown> | undefined
  const inTurn = <T>(work: () => T | Promise<T>): Promise<T> => {
    const mine = (turn ?? Promise.resolve()).then(work)
    const over: Promise<unknown> = mine
      .catch(() => undefined)
      .then(() => {
        if (turn === over) turn = undefined
      })
    turn = over
    return mine
  }
  const one = new OneConnection()
  return sqlStore({
    dialect: sqlite,
    query: (text, values, signal) => {
      if (!turn) return direct.query(text, values)
      one.assertFree()
      return inTurn(() => {
        signal?.throwIfAborted()
        return direct.query(text, values)
      })
    },
    transaction: (work) => {
      one.assertFree()
      return inTurn(() => one.during(() => inTransaction(direct, sqlite.begin, work)))
    },
  })
}

/** How many statements are kept prepared. */
const PREPARED = 200

type Run = (values: unknown[]) => { rows: DriverRow[]; touched: number }

/** Prepares statements, and keeps them for the next time. */
function preparer(database: SqliteDatabase): (text: string) => Run {
  const kept = new Map<string, Run>()
  return (text) => {
    const known = kept.get(text)
    if (known) return known
    const run = runnerOf(database.prepare(text))
    if (kept.size >= PREPARED) kept.delete(kept.keys().next().value as string)
    kept.set(text, run)
    return run
  }
}

const found = (rows: DriverRow[]) => ({ rows, touched: rows.length })

function runnerOf(statement: BetterStatement | NodeStatement): Run {
  // However the database is set up for others: what is larger than a number comes as text.
  if (!('reader' in statement)) {
    statement.setReadBigInts(false)
    statement.setReturnArrays?.(false)
    // Its rows have no prototype, and what is handed on to pages, for one, may have to be plain objects.
    return (values) => found(statement.all(...(values as never[])).map((row) => ({ ...(row as DriverRow) })))
  }
  statement.safeIntegers(false)
  if (statement.reader) return (values) => found(statement.all(...values) as DriverRow[])
  return (values) => ({ rows: [], touched: Number(statement.run(...values).changes) })
}
