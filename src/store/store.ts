import type { Dialect, DriverRow } from '../sql/index.js'

/** A database the guard can work with: its dialect, and a way to run one statement. */
export interface Store {
  readonly dialect: Dialect
  /** Runs one statement and returns its rows. */
  query(text: string, values: readonly unknown[]): Promise<readonly DriverRow[]>
  /** Closes the database, where whoever made the store wants that done for them, as the command line does. */
  close?(): Promise<void>
}
