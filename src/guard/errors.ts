import { type KeyValues, PachterError, show } from '../model/index.js'

/**
 * Something stored stands in the way, or the record changed while it was being written, again and again; nothing was
 * written. HTTP status 409. Whether it is a key, a unique value or a reference, is for the developer alone: `inFull`.
 */
export class ConflictError extends PachterError {
  readonly code = 'conflict'
  readonly status = 409
}

/** Another transaction was in the way; the same can be tried again. HTTP status 409. */
export class BusyError extends ConflictError {}

/** A value is none that can be stored where it is to be. What was to be written makes an `InputError` of it. */
export class MisfitError extends ConflictError {}

/** The record is not as whoever writes took it to be; nothing was written. HTTP status 412. */
export class ChangedError extends PachterError {
  readonly code = 'changed'
  readonly status = 412
}

/**
 * The database did not do what was asked; or it did not answer, as where a connection broke: then it is not known whether a write
 * was done. HTTP status 500. What was said is for the developer alone: `inFull`.
 */
export class StoreError extends PachterError {
  readonly code = 'store-failed'
  readonly status = 500
}

/**
 * A write was done, and what came of it could not be read: of a write on its own, after which nothing is taken back. HTTP status
 * 500. What it was that failed is for the developer alone: `inFull`.
 */
export class UnreadError extends PachterError {
  readonly code = 'written-unread'
  readonly status = 500

  /** @param key of the record that was written, where that could be read */
  constructor(readonly key: KeyValues | undefined) {
    super('This was written, and what came of it could not be read.')
  }
}

/**
 * A transaction cannot go on, or its store is used where it does not belong: after its end, or outside of the part that
 * is open. HTTP status 500. Nothing of the transaction was written.
 */
export class TransactionError extends PachterError {
  readonly code = 'transaction-failed'
  readonly status = 500
}

/** One record that stood in the way of a bulk write. */
export interface BulkRefusal {
  /** The record's key; of a record to be created, its place among those given, counted from 0. */
  readonly key: unknown
  readonly status: number
  readonly message: string
}

/** How many refusals the sentence of an error tells; `refusals` has them all. */
const NAMED = 20

/**
 * Some records of a bulk write were refused, so none was written. Of each is told what a write to it alone would be told; where
 * each could be written alone, and not after the others, that, of all. `status` is that of the first.
 */
export class BulkRefusedError extends PachterError {
  readonly code = 'bulk-refused'
  readonly status: number

  constructor(
    readonly table: string,
    /** Every record refused, by key, with what its caller may be told. */
    readonly refusals: readonly [BulkRefusal, ...BulkRefusal[]],
  ) {
    const named = refusals.slice(0, NAMED).map(({ key, message }) => `${show(key)}: ${message}`)
    const more = refusals.length > NAMED ? ` And ${refusals.length - NAMED} more.` : ''
    const were = refusals.length === 1 ? 'was' : 'were'
    super(
      `Nothing was written: ${refusals.length} of the records of ${table} ${were} refused. ${named.join(' ')}${more}`,
    )
    this.status = refusals[0].status
  }
}
