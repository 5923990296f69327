import { RefusedError } from '../decide/index.js'
import { InputError, tableOf } from '../model/index.js'
import { ConflictError } from './errors.js'
import type { ReadRecord } from './backend.js'
import { findByKey } from './reads.js'
import { atomically, type Session } from './session.js'
import { change, create, keyAmong } from './writes.js'

/**
 * Changes the record whose key stands among the values, or stores it where there is none. Whether there is one is what
 * the caller sees: one that is hidden is taken to be absent, and then what holds of a new record with a key of the
 * caller's own says whether it may be stored.
 */
export async function upsert(
  session: Session,
  table: string,
  given: Readonly<Record<string, unknown>>,
): Promise<ReadRecord> {
  const { model } = session.rulebook
  if (typeof given !== 'object' || given === null)
    throw new InputError(table, { values: 'must be an object of values' })
  const { key: names } = tableOf(model, table)
  const key = keyAmong(model, table, given)
  const values = Object.fromEntries(Object.entries(given).filter(([name]) => !names.includes(name)))
  const update = () => change(session, table, 'update', key, values)
  try {
    return await update()
  } catch (error) {
    if (!(error instanceof RefusedError) || (await findByKey(session, table, key, {}))) throw error
  }
  try {
    // Inside a transaction, a record that is suddenly there must not spoil the rest of it.
    return await (session.place.isInside
      ? atomically(session, (inside) => create(inside, table, given))
      : create(session, table, given))
  } catch (error) {
    if (!(error instanceof ConflictError) || !(await findByKey(session, table, key, {}))) throw error
    return update()
  }
}
