import { asideOf, InputError, isMissing, type KeyValues, noteAside, parentsOf } from '../model/index.js'
import { withAnswer } from './answer.js'
import { BusyError, ConflictError, MisfitError } from './errors.js'
import { decidedPermission } from './requests.js'
import { atomically, keySlots, planned, run, type Session } from './session.js'

/** How often a write that lost against another is tried before it gives up. */
const ATTEMPTS = 3

/** A write: its statement, what has to be locked before it, and what came of it. */
export interface Write<T> {
  readonly table: string
  /** Whether it rests on other records, which can change while it waits for its turn. */
  readonly rests: boolean
  /** Whether it stores values that were given. */
  readonly stores: boolean
  /** Locks what it writes and what it refers to; says whether there is anything to write. */
  lock(inside: Session): Promise<boolean>
  /** Nothing where nothing was written. */
  write(inside: Session): T | undefined | Promise<T | undefined>
  /** Says why nothing was written, by throwing; or what there is to say where nothing had to be. */
  explain(session: Session): Promise<T | undefined>
}

/**
 * Runs a write. One that rests on its own record alone is one statement that carries its condition: the database looks
 * again at a record it waited for. Any other first locks what it writes, and looks in the statement after that. Where
 * nothing was written, yet the look afterwards finds nothing in the way, another request was faster in between: then it
 * is tried again.
 */
export function attempt<T>(session: Session, write: Write<T>): T | Promise<T> {
  const settle = (done: T | undefined) => (done === undefined ? again(session, write) : done)
  const retry = async (error: unknown) => {
    await assertRetryable(session, write, error)
    return again(session, write)
  }
  try {
    const first = tried(session, write)
    return first instanceof Promise ? first.then(settle, retry) : settle(first)
  } catch (error) {
    return retry(error)
  }
}

/** Throws what trying again does not help against: inside a transaction, what is in the way stays until that ends. */
async function assertRetryable<T>(session: Session, write: Write<T>, error: unknown): Promise<void> {
  if (error instanceof MisfitError && write.stores) {
    // Some databases look at values before they look for records: what is wrong with the one is told after the other.
    await write.explain(session)
    const problems = { values: 'must all be such as can be stored' }
    throw noteAside(new InputError(write.table, problems), asideOf(error))
  }
  if (!(error instanceof BusyError) || session.place.isInside) throw error
}

/** One try; nothing where it has to be tried again. */
function tried<T>(session: Session, write: Write<T>): T | undefined | Promise<T | undefined> {
  const locks = write.rests && session.backend.locks
  const apart = locks || (session.place.isInside && session.backend.failsWhole)
  const written = apart
    ? atomically(session, async (inside) => (!locks || (await write.lock(inside)) ? write.write(inside) : undefined))
    : write.write(session)
  return withAnswer(written, (done) => (done === undefined ? write.explain(session) : done))
}

async function again<T>(session: Session, write: Write<T>): Promise<T> {
  for (let tries = 1; tries < ATTEMPTS; tries += 1) {
    try {
      const done = await tried(session, write)
      if (done !== undefined) return done
    } catch (error) {
      await assertRetryable(session, write, error)
    }
  }
  throw new ConflictError(`A record of ${write.table} kept changing while it was being written; nothing was written.`)
}

/**
 * Locks records that are to be written, as far as the caller sees them: whoever waited for another transaction looks, in the
 * statement after this one, at what that left behind.
 *
 * @returns whether there is one
 */
export async function lockRecords(session: Session, table: string, keys: readonly KeyValues[]): Promise<boolean> {
  const { backend } = session
  if (!backend.locks) return true
  const plan = planned(session, 'lock', [table, keys.length], () =>
    backend.lock({ table, condition: decidedPermission(session, table, 'get'), records: keys.length }),
  )
  return run(session, plan, keySlots(...keys))
}

/** Locks the records that given references lead to, for which the database would else wait in the middle of a write. */
export async function lockParents(
  session: Session,
  table: string,
  values: Readonly<Record<string, unknown>>,
): Promise<boolean> {
  const { rulebook, backend } = session
  if (!backend.locks) return true
  for (const relation of parentsOf(rulebook.model, table)) {
    if (isMissing(values[relation.from])) continue
    const plan = planned(session, 'refer', [table, relation.from], () => backend.refer(table, relation))
    await run(session, plan, values)
  }
  return true
}
