import { createHash } from 'node:crypto'
import { type DriverRow, postgresql } from '../sql/index.js'
import { inTransaction } from './in-transaction.js'
import type { Connection, Store } from './store.js'

interface Queryable {
  query(query: { name?: string; text: string; values: unknown[] }): Promise<{ rows: unknown[] }>
}

interface Client extends Queryable {
  /** The process of the server that the client was told it speaks to. */
  readonly processID?: number | null
  release(error?: boolean): void
}

/** The part of a `pg` pool that is used. */
export interface PostgresqlPool extends Queryable {
  connect(): Promise<Client>
}

/** How a store in PostgreSQL works. */
export interface PostgresqlOptions {
  /**
   * Whether statements are prepared, once for each connection. Left out, they are where the connection leads straight to
   * the server; behind a pooler, which hands on each transaction to another connection, they are not.
   */
  readonly prepare?: boolean
}

/**
 * A store in PostgreSQL, through a pool of `pg`. The pool stays yours: its settings, its size, its end; other stores can
 * share it.
 *
 * @param pool a `pg` Pool
 * @example
 * import pg from 'pg'
 * const store = postgresqlStore(new pg.Pool({ connectionString: process.env.DATABASE_URL }))
 */
export function postgresqlStore(pool: PostgresqlPool, options: PostgresqlOptions = {}): Store {
  const names = new Names(options.prepare)
  const direct = connection(pool, names)
  return {
    dialect: postgresql,
    query: (text, values) =>
      names.areDecided ? direct.query(text, values) : names.decide(pool).then(() => direct.query(text, values)),
    transaction: async (work) => {
      if (!names.areDecided) await names.decide(pool)
      const client = await pool.connect()
      return inTransaction(connection(client, names), postgresql.begin, work, (broken) => client.release(broken))
    },
  }
}

function connection(client: Queryable, names: Names): Connection {
  return {
    query: async (text, values) => {
      // What stands around a transaction needs no preparing.
      const name = values.length > 0 ? names.of(text) : undefined
      const { rows } = await client.query({ text, values, ...(name !== undefined && { name }) })
      return { rows: rows as DriverRow[], touched: rows.length }
    },
  }
}

/** How many statements are prepared; a connection keeps them until it ends. */
const PREPARED = 200

/**
 * Names statements, the first so many, by what they say: whoever comes to a connection finds under a name what that name
 * means to everybody.
 */
class Names {
  readonly #names = new Map<string, string>()
  #prepares: boolean | undefined

  constructor(prepare: boolean | undefined) {
    this.#prepares = prepare
  }

  get areDecided(): boolean {
    return this.#prepares !== undefined
  }

  /** Finds out whether clients speak to the server itself: only then do they know which process that is. */
  async decide(pool: PostgresqlPool): Promise<void> {
    const client = await pool.connect()
    try {
      const { rows } = await client.query({ text: 'SELECT pg_backend_pid() AS "pid"', values: [] })
      this.#prepares ??= Number((rows[0] as { pid: unknown }).pid) === client.processID
    } finally {
      client.release()
    }
  }

  of(text: string): string | undefined {
    const known = this.#names.get(text)
    if (!this.#prepares || known !== undefined || this.#names.size >= PREPARED) return known
    const name = `pachter_${createHash('sha256').update(text).digest('base64url')}`
    this.#names.set(text, name)
    return name
  }
}
