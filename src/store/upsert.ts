import { RefusedError } from '../decide/index.js'
import { InputError, type KeyValues, tableOf } from '../model/index.js'
import { ConflictError } from './errors.js'
import type { ReadRecord } from './reads.js'
import { atomically, type Session } from './session.js'
import { inquire } from './verdicts.js'
import { change, create, keyAmong } from './writes.js'

/** Changes the record whose key stands among the values, or stores it where there is none. */
export async function upsert(
  session: Session,
  table: string,
  given: Readonly<Record<string, unknown>>,
): Promise<ReadRecord> {
  const { rulebook } = session
  const key = keyAmong(rulebook.model, table, given)
  const isKey = (name: string) => tableOf(rulebook.model, table).key.includes(name)
  const values = Object.fromEntries(Object.entries(given).filter(([name]) => !isKey(name)))
  try {
    return await change(session, table, 'update', key, values)
  } catch (error) {
    const isRefused = error instanceof RefusedError || error instanceof InputError
    if (!isRefused || (await isStored(session, table, key))) throw error
  }
  try {
    // Inside a transaction, a record that is suddenly there must not spoil the rest of it.
    return await atomically(session, (inside) => create(inside, table, given))
  } catch (error) {
    if (!(error instanceof ConflictError)) throw error
    return change(session, table, 'update', key, values)
  }
}

async function isStored(session: Session, table: string, key: KeyValues): Promise<boolean> {
  const { rulebook, caller } = session
  const { record } = await inquire(session, { rulebook, table, action: 'get', caller }, key)
  return record !== null
}
