import { type Connection, type DriverRow, postgresql, sqlStore, type SqlStore } from '../sql/index.js'
import { OneConnection } from './one-connection.js'

interface Queryable {
  query(text: string, values?: unknown[]): Promise<{ rows: unknown[]; affectedRows?: number }>
}

/** The part of a PGlite database that is used. */
export interface PGliteDatabase extends Queryable {
  transaction<T>(work: (transaction: Queryable) => Promise<T>): Promise<T>
  listen?(channel: string, hear: (payload: string) => void): Promise<() => Promise<void>>
}

/**
 * A store in PGlite: PostgreSQL inside the process, in memory or in a folder. The database stays yours to close.
 *
 * @param database an open PGlite database
 * @example
 * import { PGlite } from '@electric-sql/pglite'
 * const store = pgliteStore(await PGlite.create())
 */
export function pgliteStore(database: PGliteDatabase): SqlStore {
  const one = new OneConnection()
  const direct = connection(database)
  const listen = database.listen?.bind(database)
  return sqlStore({
    dialect: postgresql,
    query: (text, values) => {
      one.assertFree()
      return direct.query(text, values)
    },
    ...(listen && { listen }),
    transaction: (work) => {
      one.assertFree()
      return database.transaction((transaction) => one.during(() => work(connection(transaction))))
    },
  })
}

function connection(database: Queryable): Connection {
  return {
    query: async (text, values) => {
      const { rows } = await database.query(text, values)
      return { rows: rows as DriverRow[], touched: rows.length }
    },
  }
}
