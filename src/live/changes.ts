import type { Store } from '../guard/index.js'

/** A row as far as something is known of it: values by field. */
export type KnownRow = Readonly<Record<string, unknown>>

/** Something that was written, and is there for everybody to see by now. */
export interface Change {
  readonly table: string
  /** The rows, as they were and as they are; left out, any rows of the table. */
  readonly rows?: readonly KnownRow[]
  /** The fields that have another value; left out, any: the row is new, or gone. */
  readonly fields?: readonly string[]
}

/** Tells of changes. */
export interface Changes {
  /**
   * @param hear told of each change once it is done; of `'gap'`, where some may have gone by unheard
   * @returns what ends it
   * @throws {LiveConfigError} where it cannot work
   */
  listen(hear: (change: Change | 'gap') => void): Promise<() => Promise<void>>
}

/** A store that tells of what is written to it. */
export type Followed<S extends Store = Store> = S & { readonly changes: Changes }
