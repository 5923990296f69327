import { PachterError } from '../model/index.js'

/**
 * Another record stands in the way, or the record changed while it was being written, again and again; nothing
 * was written. HTTP status 409.
 */
export class ConflictError extends PachterError {
  readonly code = 'conflict'
  readonly status = 409
}

/** One record that stood in the way of a bulk write. */
export interface BulkRefusal {
  /** The record's key; of a record to be created, its place among those given, counted from 0. */
  readonly key: unknown
  readonly status: number
  readonly message: string
}

/** Some records of a bulk write were refused, so none was written. `status` is that of the first. */
export class BulkRefusedError extends PachterError {
  readonly code = 'bulk-refused'
  readonly status: number

  constructor(
    readonly table: string,
    /** Every record refused, by key, with what its caller may be told. */
    readonly refusals: readonly [BulkRefusal, ...BulkRefusal[]],
  ) {
    const list = refusals.map(({ key, message }) => `${JSON.stringify(key)}: ${message}`).join(' ')
    super(`Nothing was written: ${refusals.length} of the records of ${table} were refused. ${list}`)
    this.status = refusals[0].status
  }
}
