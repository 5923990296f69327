import { RefusedError } from '../decide/index.js'
import { InputError, PachterError, readKey } from '../model/index.js'
import type { Session } from './session.js'
import type { Store } from './store.js'

/** One record that stood in the way of a bulk write. */
export interface BulkRefusal {
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

/**
 * Writes to several records, all or none. Every record is tried, so that all refusals are reported at once.
 *
 * @throws {BulkRefusedError} where any is refused; nothing is written then
 */
export async function forEachKey<T>(
  session: Session,
  store: Store,
  table: string,
  keys: readonly unknown[],
  write: (session: Session, key: unknown) => Promise<T>,
): Promise<readonly T[]> {
  for (const key of keys) readKey(session.rulebook.model, table, key)
  return store.transaction(async (connection) => {
    const written: T[] = []
    const refusals: BulkRefusal[] = []
    for (const key of keys) {
      try {
        written.push(await write({ ...session, connection }, key))
      } catch (error) {
        if (!(error instanceof RefusedError || error instanceof InputError)) throw error
        refusals.push({ key, status: error.status, message: error.message })
      }
    }
    const [first, ...more] = refusals
    if (first) throw new BulkRefusedError(table, [first, ...more])
    return written
  })
}
