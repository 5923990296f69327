import type { Dialect, DriverRow } from '../sql/index.js'

/** What came of a statement. */
export interface Outcome {
  readonly rows: readonly DriverRow[]
  /** How many records a write touched. */
  readonly touched: number
  /** The number a database without RETURNING gave to the record created. */
  readonly createdId?: unknown
}

/** A way to run one statement after another. */
export interface Connection {
  /** Runs one statement; a database inside the process may answer at once. */
  query(text: string, values: unknown[]): Outcome | Promise<Outcome>
}

/** A database the guard can work with. */
export interface Store extends Connection {
  readonly dialect: Dialect
  /** Runs several statements on one connection, all of them or, where `work` throws, none. */
  transaction<T>(work: (connection: Connection) => Promise<T>): Promise<T>
  /** Closes the database, where whoever made the store wants that done for them, as the command line does. */
  close?(): Promise<void>
}
