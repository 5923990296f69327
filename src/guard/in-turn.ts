import { RefusedError } from '../decide/index.js'
import { inFull, InputError, noteAside, show } from '../model/index.js'
import { type BulkRefusal, BulkRefusedError, BusyError, ConflictError } from './errors.js'
import { atomically, type Session } from './session.js'

/** What a bulk write does about records that are refused. */
export interface BulkOptions {
  /** Writes those that are permitted and reports the others, instead of writing none. */
  readonly partly?: boolean
}

/** What came of a bulk write in part. */
export interface BulkOutcome<T> {
  readonly written: readonly T[]
  readonly refused: readonly BulkRefusal[]
}

/** Writes to one record. */
type WriteOne<K, T> = (session: Session, key: K) => Promise<T>

/**
 * Writes to records one after another.
 *
 * @throws {BulkRefusedError} where any is refused and not only a part is wanted; nothing is written then
 */
export function eachInTurn<K, T>(
  session: Session,
  table: string,
  keys: readonly K[],
  { partly = false }: BulkOptions,
  write: WriteOne<K, T>,
): Promise<readonly T[] | BulkOutcome<T>> {
  return partly ? someInTurn(session, keys, write) : allInTurn(session, table, keys, write)
}

/** Writes to those it may, and says of the others why not. */
function someInTurn<K, T>(session: Session, keys: readonly K[], write: WriteOne<K, T>): Promise<BulkOutcome<T>> {
  return atomically(session, async (inside) => {
    const written: T[] = []
    const refused: BulkRefusal[] = []
    for (const key of keys) {
      try {
        written.push(await write(inside, key))
      } catch (error) {
        refused.push(refusalOf(key, error))
      }
    }
    return { written, refused }
  })
}

/**
 * Writes to all or none. Where one is refused, what is told of each is what a write to it alone would be told: what the
 * writes before it would have made of it, which can hang on what is hidden, nobody is told without their being done.
 */
async function allInTurn<K, T>(
  session: Session,
  table: string,
  keys: readonly K[],
  write: WriteOne<K, T>,
): Promise<readonly T[]> {
  let last: K | undefined
  try {
    return await atomically(session, async (inside) => {
      const written: T[] = []
      for (const key of keys) written.push(await write(inside, (last = key)))
      return written
    })
  } catch (error) {
    // Where another was in the way, and not the rules, the same can be tried again.
    if (error instanceof BusyError || !isTold(error)) throw error
    const [first, ...more] = await refusedAlone(session, keys, write)
    if (first) throw new BulkRefusedError(table, [first, ...more])
    const together = keys.map((key) => ({ key: bareKey(key), ...NOT_TOGETHER })) as [BulkRefusal, ...BulkRefusal[]]
    const hint = `After the others before it, ${show(bareKey(last))} was refused: ${inFull(error)}`
    throw noteAside(new BulkRefusedError(table, together), { hint })
  }
}

/** What is said of records each of which may be written, where not all of them may. */
const NOT_TOGETHER = { status: 409, message: 'This may be written, but not together with the others.' } as const

/** Tries each as if there were no others, and takes it back. */
function refusedAlone<K>(session: Session, keys: readonly K[], write: WriteOne<K, unknown>): Promise<BulkRefusal[]> {
  return atomically(session, async (inside) => {
    const refused: BulkRefusal[] = []
    for (const key of keys) {
      try {
        await takenBack(inside, (part) => write(part, key))
      } catch (error) {
        refused.push(refusalOf(key, error))
      }
    }
    return refused
  })
}

const TAKEN_BACK = Symbol('taken back')

async function takenBack(session: Session, work: (inside: Session) => Promise<unknown>): Promise<void> {
  try {
    await atomically(session, async (inside) => {
      await work(inside)
      throw TAKEN_BACK
    })
  } catch (error) {
    if (error !== TAKEN_BACK) throw error
  }
}

/** What may be told of a refusal; what is none is thrown. */
function refusalOf(key: unknown, error: unknown): BulkRefusal {
  if (!isTold(error)) throw error
  return { key: bareKey(key), status: error.status, message: error.message }
}

const isTold = (error: unknown): error is RefusedError | InputError | ConflictError =>
  error instanceof RefusedError || error instanceof InputError || error instanceof ConflictError

/** A key as it is given where it is one value. */
export const bareKey = (key: unknown): unknown =>
  typeof key === 'object' && key !== null && Object.keys(key).length === 1 ? Object.values(key)[0] : key
