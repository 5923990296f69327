import type { FieldData } from './field.js'
import { InputError } from './input-error.js'
import { keyFieldsOf, type ModelData, tableOf } from './tables.js'
import { show } from './show.js'
import type { Value } from './types.js'
import { accepts, describeType, ownValue, readTyped, toPlain } from './values.js'

/** The fields of a key with their values. */
export type KeyValues = Readonly<Record<string, Value>>

/**
 * Reads a key as a developer gives it: the bare value of a single key field, or an object for any key.
 *
 * @throws {InputError} where a part is missing, unknown or of the wrong type
 * @throws {UnknownNameError} where there is no such table
 * @example readKey(model, 'entries', 3) // { id: 3 }
 */
export function readKey(model: ModelData, table: string, given: unknown): KeyValues {
  const { key, fields } = tableOf(model, table)
  const [only] = key
  // By far the most frequent, and on the way of every read by key.
  if (
    key.length === 1 &&
    only !== undefined &&
    typeof given !== 'object' &&
    accepts(fields[only] as FieldData, given)
  ) {
    return { [only]: given }
  }
  const parts = isPlainObject(given) ? given : { [key[0]]: given }
  const problems = new Map<string, string>()
  for (const name of Object.keys(parts)) {
    if (!key.includes(name)) problems.set(name, `is not part of the key of ${table}`)
  }
  const read: Record<string, Value> = {}
  for (const name of key) {
    const field = fields[name] as FieldData
    const value = Object.hasOwn(parts, name) ? parts[name] : undefined
    if (value === undefined) problems.set(name, 'is missing from the key')
    else if (accepts(field, value)) read[name] = ownValue(field, value)
    else problems.set(name, `must be ${describeType(field)}`)
  }
  if (problems.size > 0) throw new InputError(table, problems)
  return read
}

/**
 * Reads a key that was written as text, as {@link printKey} writes it: `3`, or `4, 7` for a key of two fields.
 *
 * @throws {InputError} where it has too few parts or too many, or a part is of the wrong type
 * @throws {UnknownNameError} where there is no such table
 * @example parseKey(model, 'entryShares', '4, 7') // { entryId: 4, memberId: 7 }
 */
export function parseKey(model: ModelData, table: string, written: string): KeyValues {
  const { key } = tableOf(model, table)
  const parts = splitParts(written)
  if (parts.length !== key.length) {
    const problem = `takes ${key.join(', ')}, separated by commas; ${show(written)} does not`
    throw new InputError(table, { key: problem })
  }
  const values = keyFieldsOf(model, table).map(([name, field], at) => [name, readPart(field, parts[at] ?? '')])
  return readKey(model, table, Object.fromEntries(values))
}

/** The parts of a written key: what stands between commas, without spaces around it, or in quotes as JSON has them. */
function splitParts(written: string): readonly string[] {
  const quoted = /^\s*("(?:[^"\\]|\\.)*")\s*(?:,|$)/
  const plain = /^\s*([^,]*?)\s*(?:,|$)/
  const parts: string[] = []
  for (let rest = `${written},`; rest.length > 0;) {
    const [whole = rest, part = ''] = quoted.exec(rest) ?? plain.exec(rest) ?? []
    parts.push(part)
    rest = rest.slice(whole.length)
  }
  return parts
}

function readPart(field: FieldData, part: string): unknown {
  return isQuoted(part) ? (JSON.parse(part) as string) : readTyped(field, part)
}

function isQuoted(part: string): boolean {
  if (!part.startsWith('"')) return false
  try {
    return typeof JSON.parse(part) === 'string'
  } catch {
    return false
  }
}

/** The key in one short text, for messages and tables: `3`, or `4, 7`; text that would read otherwise in quotes. */
export function printKey(model: ModelData, table: string, record: Readonly<Record<string, unknown>>): string {
  return tableOf(model, table)
    .key.map((name) => writePart(record[name]))
    .join(', ')
}

/**
 * A key as a part of a path, as `/api/entryShares/4,7` has it; also of a record whose values are plain already.
 *
 * @example keyPath(model, 'entryShares', { entryId: 4, memberId: 7 }) // '4,7'
 */
export const keyPath = (model: ModelData, table: string, record: Readonly<Record<string, unknown>>): string =>
  keyFieldsOf(model, table)
    .map(([name, field]) => {
      const value = record[name]
      return encodeURIComponent(String(accepts(field, value) ? toPlain(field, value) : value))
    })
    .join(',')

function isPlainObject(value: unknown): value is Record<string, unknown> {
  return typeof value === 'object' && value !== null && !Array.isArray(value) && !(value instanceof Date)
}

function writePart(value: unknown): string {
  if (value instanceof Date) return value.toISOString()
  const isPlain = typeof value !== 'string' || /^[^\s",](?:[^,\p{Cc}]*[^\s,])?$/u.test(value)
  return isPlain ? String(value) : JSON.stringify(value)
}
