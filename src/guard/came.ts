import { asideOf, type KeyValues, noteAside } from '../model/index.js'
import type { ReadRecord, Written } from './backend.js'
import { UnreadError } from './errors.js'
import { seenAfterWrite } from './reads.js'
import type { Session } from './session.js'

/**
 * What came of a write, as the caller sees it; nothing where nothing was written.
 *
 * @throws {UnreadError} where it was written and cannot be read
 */
export function whatCame(
  inside: Session,
  table: string,
  { touched, records }: Written,
  keyOf: () => KeyValues,
): ReadRecord | undefined | Promise<ReadRecord> {
  if (touched === 0) return undefined
  const fail = (cause: unknown): never => {
    throw noteAside(new UnreadError(keyIfAny(keyOf)), { ...asideOf(cause), cause })
  }
  try {
    const seen = records?.()[0] ?? seenAfterWrite(inside, table, keyOf())
    return seen instanceof Promise ? seen.catch(fail) : seen
  } catch (cause) {
    return fail(cause)
  }
}

function keyIfAny(keyOf: () => KeyValues): KeyValues | undefined {
  try {
    return keyOf()
  } catch {
    return undefined
  }
}
