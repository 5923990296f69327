import type { Store } from '../../guard/index.js'
import type { DriverRow } from '../answers.js'
import type { Dialect } from '../dialect.js'

/** What came of a statement. */
export interface Outcome {
  readonly rows: readonly DriverRow[]
  /** How many records a write touched. */
  readonly touched: number
}

/** A way to run one statement after another. */
export interface Connection {
  /**
   * Runs one statement; a database inside the process may answer at once.
   *
   * @param signal has the server cancel the statement, where the driver can
   */
  query(text: string, values: unknown[], signal?: AbortSignal): Outcome | Promise<Outcome>
}

/** A database that speaks SQL: what has to be said of one for {@link sqlStore}. */
export interface Database extends Connection {
  readonly dialect: Dialect
  /** Runs several statements on one connection, all of them or, where `work` throws, none. */
  transaction<T>(work: (connection: Connection) => Promise<T>): Promise<T>
  /**
   * Hears what is notified on a channel, where the database does such a thing, until what it returns is called.
   *
   * @param hear told of each payload; of nothing, where some may have gone by while the connection was lost
   */
  listen?(channel: string, hear: (payload?: string) => void): Promise<() => Promise<void>>
  /** Closes the database, where whoever opened it wants that done for them. */
  close?(): Promise<void>
}

/** A store in a database that speaks SQL. */
export interface SqlStore extends Store, Database {
  close?(): Promise<void>
}
