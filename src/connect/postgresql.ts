import { createHash } from 'node:crypto'
import { StoreError } from '../guard/index.js'
import { type Connection, type DriverRow, postgresql, sqlStore, type SqlStore } from '../sql/index.js'
import { type Bystander, cancellable } from './cancelling.js'
import { type Listener, listening } from './listening.js'
import { inTransaction } from './in-transaction.js'

interface Queryable {
  query(query: { name?: string; text: string; values: unknown[] }): Promise<{ rows: unknown[] }>
}

interface Client extends Queryable {
  /** The process of the server that the client was told it speaks to. */
  readonly processID?: number | null
  release(error?: boolean): void
  on(event: 'error', hear: () => void): unknown
  off(event: 'error', hear: () => void): unknown
}

/** The part of a `pg` pool that is used. */
export interface PostgresqlPool extends Queryable {
  connect(): Promise<Client>
  /** What its connections are made of, and with: a statement is cancelled through one more. */
  readonly Client?: new (options: never) => Spare
  readonly options?: object
}

/** A connection outside of the pool. */
interface Spare extends Listener {
  query(query: { text: string; values: unknown[] }): Promise<{ rows: unknown[] }>
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
 * @throws {StoreError} where the pool is set to `binary`
 * @example
 * import pg from 'pg'
 * const store = postgresqlStore(new pg.Pool({ connectionString: process.env.DATABASE_URL }))
 */
export function postgresqlStore(pool: PostgresqlPool, options: PostgresqlOptions = {}): SqlStore {
  if (isBinary(pool)) {
    throw new StoreError(
      'A pool that is set to binary reads other values than are stored; give the store one that is not.',
    )
  }
  const names = new Names(options.prepare)
  const direct = connection(pool, names, true)
  return sqlStore({
    dialect: postgresql,
    query: (text, values, signal) => {
      if (signal) return apart(pool, names, text, values, signal)
      return names.areDecided ? direct.query(text, values) : names.decide(pool).then(() => direct.query(text, values))
    },
    listen: (channel, hear) => listening(() => spareOf(pool), channel, hear),
    transaction: async (work) => {
      if (!names.areDecided) await names.decide(pool)
      const { client, release } = await taken(pool)
      return inTransaction(within(pool, client, names, false), postgresql.begin, work, release)
    },
  })
}

/** Whether rows come as the bytes that the server has, of which `pg` reads few types. */
const isBinary = ({ options }: PostgresqlPool): boolean =>
  options !== undefined && 'binary' in options && options.binary === true

/** @param isAlone whether each statement is on its own, and not in a transaction */
function connection(client: Queryable, names: Names, isAlone: boolean): Connection {
  return {
    query: async (text, values) => {
      // What stands around a transaction needs no preparing.
      const name = values.length > 0 ? names.of(text) : undefined
      const query = { text, values, ...(name !== undefined && { name }) }
      const { rows } = await client.query(query).catch((error: unknown) => {
        // In a transaction, nothing can be asked any more.
        if (name === undefined || !isStale(error)) throw error
        names.forget(text)
        if (!isAlone) throw error
        return client.query({ text, values })
      })
      return { rows: rows as DriverRow[], touched: rows.length }
    },
  }
}

const spareOf = ({ Client: Another, options }: PostgresqlPool): Spare => {
  if (!Another) throw new StoreError('Only with a pool of `pg` can more connections be opened.')
  return new Another(options as never)
}

/** Runs a statement on a connection of its own, so that it can be cancelled. */
async function apart(pool: PostgresqlPool, names: Names, text: string, values: unknown[], signal: AbortSignal) {
  if (!names.areDecided) await names.decide(pool)
  const { client, release } = await taken(pool)
  try {
    return await within(pool, client, names, true).query(text, values, signal)
  } finally {
    release()
  }
}

/**
 * A connection taken from the pool, which leaves it to whoever has one to hear that it broke, and ends the process where nobody
 * does. Whatever is asked of it next fails by itself.
 */
async function taken(pool: PostgresqlPool) {
  const client = await pool.connect()
  client.on('error', ignored)
  const release = (broken?: boolean) => {
    client.off('error', ignored)
    client.release(broken)
  }
  return { client, release }
}

const ignored = () => undefined

/** A connection whose statements can be cancelled, by one more that is opened for that: those of the pool may all be busy. */
function within(pool: PostgresqlPool, client: Client, names: Names, isAlone: boolean): Connection {
  const { query } = connection(client, names, isAlone)
  const connect = async (): Promise<Bystander> => {
    const spare = spareOf(pool)
    // One that breaks cancels nothing.
    spare.on('error', ignored)
    await spare.connect()
    return {
      cancel: () => spare.query({ text: 'SELECT pg_cancel_backend($1)', values: [client.processID] }),
      release: () => void spare.end().catch(() => undefined),
    }
  }
  return {
    query: (text, values, signal) => {
      if (!signal || !pool.Client) return query(text, values)
      const run = async () => query(text, values)
      // Behind a pooler, it is not known which process runs it.
      return names.isDirect(client).then((isDirect) => (isDirect ? cancellable(signal, connect, run) : run()))
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
  #isDirect: boolean | undefined

  constructor(prepare: boolean | undefined) {
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
    const { client, release } = await taken(pool)
    try {
      this.#prepares ??= await this.isDirect(client)
    } finally {
      release()
    }
  }

  async isDirect(client: Client): Promise<boolean> {
    if (this.#isDirect !== undefined) return this.#isDirect
    const { rows } = await client.query({ text: 'SELECT pg_backend_pid() AS "pid"', values: [] })
    return (this.#isDirect = Number((rows[0] as { pid: unknown }).pid) === client.processID)
  }

  of(text: string): string | undefined {
    if (!this.#prepares) return undefined
    if (this.#names.has(text) || this.#names.size >= PREPARED) return this.#names.get(text)
    const name = `pachter_${createHash('sha256').update(text).digest('base64url')}`
    this.#names.set(text, name)
    return name
  }
}
