import { type Condition, contains } from '../condition/index.js'
import { childrenOf, type KeyValues, printKey } from '../model/index.js'
import type { ReadRecord } from './backend.js'
import { ConflictError, MisfitError } from './errors.js'
import { atomically, type Session } from './session.js'

/** How many records one statement writes at most. */
export const CHUNK = 64

/**
 * Whether it makes a difference whether records are written together or one after another: where what decides about one
 * looks at others that the write of another may have changed, as it does at records of the same table.
 */
export function isIndependent(
  { rulebook: { model } }: Session,
  table: string,
  condition: Condition,
  removing: boolean,
): boolean {
  const touched = new Set([table])
  // What refers to a record that is removed may go with it, and what refers to that.
  if (removing) for (const each of touched) for (const child of childrenOf(model, each)) touched.add(child.table)
  return !contains(condition, (part) => part.kind === 'some' && touched.has(part.table))
}

/** Some record was not written; then each is asked about on its own. */
export const NOT_ALL = Symbol('not all')

/** Runs work in a transaction, and takes it back where it does not report that all was done. */
export async function allOrNot(session: Session, work: (inside: Session) => Promise<boolean>): Promise<boolean> {
  try {
    return await atomically(session, async (inside) => {
      if (await work(inside)) return true
      throw NOT_ALL
    })
  } catch (error) {
    // What stands in the way of one is told with the others, one by one.
    if (error === NOT_ALL || error instanceof MisfitError) return false
    if (error instanceof ConflictError && !session.place.isInside) return false
    throw error
  }
}

/** Records that were written in the order of their keys; of those that the caller does not see, the key. */
export function inOrderOf(
  { rulebook }: Session,
  table: string,
  keys: readonly KeyValues[],
  records: readonly ReadRecord[],
): readonly ReadRecord[] {
  const name = (record: Readonly<Record<string, unknown>>) => printKey(rulebook.model, table, record)
  const seen = new Map(records.map((record) => [name(record), record]))
  return keys.map((each) => seen.get(name(each)) ?? { ...each })
}
