import { type Connection, type DriverRow, mariadb, type Outcome, sqlStore, type SqlStore } from '../sql/index.js'
import { type Bystander, cancellable } from './cancelling.js'
import { inTransaction } from './in-transaction.js'
import { Sessions } from './mariadb-sessions.js'

interface Client extends Queryable {
  /** By what the server knows the connection. */
  readonly threadId: number
  release(): void
  destroy(): void
}

interface Queryable {
  execute(statement: MariadbStatement, values: never[]): Promise<[unknown, unknown]>
  query(statement: MariadbStatement): Promise<[unknown, unknown]>
}

/** A statement, with what it has rows come as. */
interface MariadbStatement extends Readonly<typeof ROWS> {
  readonly sql: string
}

/** However the pool is set up for others. */
const ROWS = { rowsAsArray: false, nestTables: false, typeCast: true } as const

/** The part of a pool of `mysql2/promise` that is used. */
export interface MariadbPool extends Queryable {
  getConnection(): Promise<Client>
}

/**
 * A store in MariaDB, through a pool of `mysql2/promise`. The pool stays yours: its settings, its size,
 * its end. Its connections have to speak utf8mb4, commit what is written alone, and know empty texts, as they do unless told
 * otherwise: that is asked of one of them, once.
 *
 * @param pool a `mysql2/promise` pool
 * @example
 * import mysql from 'mysql2/promise'
 * const store = mariadbStore(mysql.createPool({ uri: process.env.DATABASE_URL }))
 */
export function mariadbStore(pool: MariadbPool): SqlStore {
  const direct = connection(pool)
  const sessions = new Sessions(direct)
  return sqlStore({
    dialect: mariadb,
    query: async (text, values, signal) => {
      if (!sessions.areKnown) await sessions.begin()
      if (!signal) return direct.query(text, values)
      const client = await pool.getConnection()
      try {
        return await within(pool, client).query(text, values, signal)
      } finally {
        client.release()
      }
    },
    transaction: async (work) => {
      const begin = await sessions.begin()
      const client = await pool.getConnection()
      return inTransaction(within(pool, client), begin, work, (broken) =>
        broken ? client.destroy() : client.release(),
      )
    },
  })
}

function connection(client: Queryable): Connection {
  return {
    query: async (text, values) => {
      // The server does not prepare what stands around a transaction.
      const statement = { ...ROWS, sql: text }
      const [result] =
        values.length > 0 ? await client.execute(statement, values as never[]) : await client.query(statement)
      return outcomeOf(result)
    },
  }
}

/** A connection whose statements can be cancelled, by another of the pool, once there is a free one. */
function within(pool: MariadbPool, client: Client): Connection {
  const { query } = connection(client)
  const connect = async (): Promise<Bystander> => {
    const other = await pool.getConnection()
    return {
      cancel: () => other.query({ ...ROWS, sql: `KILL QUERY ${client.threadId}` }),
      release: () => other.release(),
    }
  }
  return {
    query: (text, values, signal) =>
      signal ? cancellable(signal, connect, async () => query(text, values)) : query(text, values),
  }
}

function outcomeOf(result: unknown): Outcome {
  if (Array.isArray(result)) return { rows: result as DriverRow[], touched: result.length }
  const { affectedRows, info = '' } = result as { readonly affectedRows: number; readonly info?: string }
  // However the pool is set up, a record counts that was written as it was before.
  const [, matched = affectedRows] = /^\D*(\d+)\D+\d+\D+\d+$/.exec(info) ?? []
  return { rows: [], touched: Number(matched) }
}
