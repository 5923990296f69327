import { type DriverRow, postgresql } from '../sql/index.js'
import type { Store } from './store.js'

/** The part of a PGlite database that is used. */
export interface PGliteDatabase {
  query(text: string, values?: unknown[]): Promise<{ rows: unknown[] }>
}

/**
 * A store in PGlite: PostgreSQL inside the process, in memory or in a folder. The database stays yours to close.
 *
 * @param database an open PGlite database
 * @example
 * import { PGlite } from '@electric-sql/pglite'
 * const store = pgliteStore(await PGlite.create())
 */
export function pgliteStore(database: PGliteDatabase): Store {
  return {
    dialect: postgresql,
    query: async (text, values) => (await database.query(text, [...values])).rows as DriverRow[],
  }
}
