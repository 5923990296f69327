import { createHash } from 'node:crypto'
import { type Connection, type DriverRow, postgresql, sqlStore, type SqlStore } from '../sql/index.js'
import { inTransaction } from './in-transaction.js'

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
export function postgresqlStore(pool: PostgresqlPool, options: PostgresqlOptions = {}): SqlStore {
  const names = new Names(pool, options.prepare)
  const direct = connection(pool, names)
  return sqlStore({
    dialect: postgresql,
    query: (text, values) =>
      names.areDecided ? direct.query(text, values) : names.decide(pool).then(() => direct.query(text, values)),
    transaction: async (work) => {
      if (!names.areDecided) await names.decide(pool)
      const client = await pool.connect()
      return inTransaction(connection(client, names), postgresql.begin, work, (broken) => client.release(broken))
    },
  })
}

function connection(client: Queryable, names: Names): Connection {
  return {
    query: async (text, values) => {
      // What stands around a transaction needs no preparing.
      const name = values.length > 0 ? names.of(text) : undefined
      const query = { text, values, ...(name !== undefined && { name }) }
      const { rows } = await client.query(query).catch((error: unknown) => {
        // In a transaction, nothing can be asked any more.
        if (name === undefined || !isStale(error)) throw error
        names.forget(text)
        if (client !== names.pool) throw error
        return client.query({ text, values })
      })
      return { rows: rows as DriverRow[], touched: rows.length }
    },
  }
}

/** Whether what was prepared is not there any more, or does not fit a table that was changed since. Nothing was run. */
const isStale = (error: unknown): boolean =>
  ['0A000', '26000', '42P05'].includes(String((error as { code?: unknown }).code))

/** How many statements are prepared; a connection keeps them until it ends. */
const PREPARED = 200

/**
 * Names statements, the first so many, by what they say: whoever comes to a connection finds under a name what that name
 * means to everybody.
 */
class Names {
  readonly #names = new Map<string, string | undefined>()
  #prepares: boolean | undefined

  constructor(
    readonly pool: Queryable,
    prepare: boolean | undefined,
  ) {
    this.#prepares = prepare
  }

  /** From now on, this statement is not prepared. */
  forget(text: string): void {
    this.#names.set(text, undefined)
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
    if (!this.#prepares) return undefined
    if (this.#names.has(text) || this.#names.size >= PREPARED) return this.#names.get(text)
    const name = `pachter_${createHash('sha256').update(text).digest('base64url')}`
    this.#names.set(text, name)
    return name
  }
}
