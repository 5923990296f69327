import { assertKnown, InputError, readKey } from '../model/index.js'
import { assertObject } from './ask.js'
import { lockRecords } from './attempt.js'
import type { ReadRecord } from './backend.js'
import { ChangedError } from './errors.js'
import { findByKey } from './reads.js'
import { atomically, type Session } from './session.js'

/** What has to hold so that a write is done. */
export interface WriteOptions<R = ReadRecord> {
  /**
   * Looks at the record as the caller sees it, once nobody else can change it any more: where it answers `false`, nothing is
   * written. For whoever read a record a while ago, and wants to be told if it changed since.
   */
  readonly provided?: (record: R) => boolean
}

/**
 * Runs a write of one record, provided that it is as whoever writes takes it to be. What the rules refuse, they refuse
 * first: whether a record changed is told only to who may change it.
 *
 * @throws {ChangedError} where it is not
 * @throws {InputError} where `provided` answers neither, but a promise, say
 */
export async function providing<T>(
  session: Session,
  table: string,
  givenKey: unknown,
  options: WriteOptions,
  write: (session: Session) => Promise<T>,
): Promise<T> {
  assertObject(table, 'options', options)
  assertKnown('option', options, ['provided'], 'a write')
  const { provided } = options
  if (!provided) return write(session)
  const key = readKey(session.rulebook.model, table, givenKey)
  return atomically(session, async (inside) => {
    await lockRecords(inside, table, [key])
    const record = await findByKey(inside, table, key, {})
    const holds: unknown = !record || provided(record)
    // A promise of an answer would count as a yes.
    if (typeof holds !== 'boolean') throw new InputError(table, { provided: 'must answer true or false' })
    const done = await write(inside)
    if (!holds) throw new ChangedError(`The record of ${table} changed since you read it; nothing was written.`)
    return done
  })
}
