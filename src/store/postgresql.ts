import { type DriverRow, postgresql } from '../sql/index.js'
import { inTransaction } from './in-transaction.js'
import type { Connection, Store } from './store.js'

interface Queryable {
  query(query: { name?: string; text: string; values: unknown[] }): Promise<{ rows: unknown[] }>
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
  const nameOf = namer()
  return {
    dialect: postgresql,
    ...connection(pool, nameOf),
    transaction: async (work) => {
      const client = await pool.connect()
      return inTransaction(connection(client, nameOf), work, (broken) => client.release(broken))
    },
  }
}

function connection(client: Queryable, nameOf: (text: string) => { name?: string }): Connection {
  return {
    query: async (text, values) => {
      // A statement with a name is prepared once for each connection; what stands around a transaction needs none.
      const { rows } = await client.query({ text, values, ...(values.length > 0 && nameOf(text)) })
      return { rows: rows as DriverRow[], touched: rows.length }
    },
  }
}

/** How many statements are prepared; a connection keeps them until it ends. */
const PREPARED = 200

/** Names statements, the first so many. */
function namer(): (text: string) => { name?: string } {
  const names = new Map<string, { name: string }>()
  return (text) => {
    const known = names.get(text)
    if (known || names.size >= PREPARED) return known ?? {}
    const named = { name: `pachter_${names.size}` }
    names.set(text, named)
    return named
  }
}
