import { type DriverRow, postgresql } from '../sql/index.js'
import { inTransaction } from './in-transaction.js'
import type { Connection, Store } from './store.js'

interface Queryable {
  query(text: string, values: unknown[]): Promise<{ rows: unknown[] }>
}

/** The part of a `pg` pool that is used. */
export interface PostgresqlPool extends Queryable {
  connect(): Promise<Queryable & { release(error?: boolean): void }>
}

/**
 * A store in PostgreSQL, through a pool of `pg`. The pool stays yours: its settings, its size, its end.
 *
 * @param pool a `pg` Pool
 * @example
 * import pg from 'pg'
 * const store = postgresqlStore(new pg.Pool({ connectionString: process.env.DATABASE_URL }))
 */
export function postgresqlStore(pool: PostgresqlPool): Store {
  return {
    dialect: postgresql,
    ...connection(pool),
    transaction: async (work) => {
      const client = await pool.connect()
      return inTransaction(connection(client), work, (broken) => client.release(broken))
    },
  }
}

function connection(client: Queryable): Connection {
  return {
    query: async (text, values) => {
      const { rows } = await client.query(text, [...values])
      return { rows: rows as DriverRow[], touched: rows.length }
    },
  }
}
