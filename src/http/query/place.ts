import { accepts, type FieldData, fieldOf, fromJson, isMissing, type ModelData, toPlain } from '../../model/index.js'
import { badQuery } from '../errors.js'

/**
 * The place behind a record in an order, as a text for a link: the values that the records are sorted by, as far as the
 * caller sees them. It opens nothing: whoever makes one up gets what such a record would be followed by.
 */
export function writePlace(
  model: ModelData,
  table: string,
  order: readonly string[],
  record: Readonly<Record<string, unknown>>,
): string {
  const values = order.map((name) => {
    const value = record[name]
    return isMissing(value) ? null : toPlain(fieldOf(model, table, name), value as never)
  })
  return Buffer.from(JSON.stringify(values)).toString('base64url')
}

/**
 * Reads such a text.
 * @throws {RequestError} 400 where it is none, or of another order
 */
export function readPlace(
  model: ModelData,
  table: string,
  order: readonly string[],
  token: string,
): Readonly<Record<string, unknown>> {
  const values = parsed(token)
  if (!Array.isArray(values) || values.length !== order.length) throw noPlace()
  return Object.fromEntries(order.map((name, at) => [name, partFrom(fieldOf(model, table, name), values[at])]))
}

function partFrom(field: FieldData, plain: unknown): unknown {
  if (plain === null) return null
  const value = fromJson(field, plain)
  if (!accepts(field, value)) throw noPlace()
  return value
}

function parsed(token: string): unknown {
  try {
    return JSON.parse(Buffer.from(token, 'base64url').toString()) as unknown
  } catch {
    return undefined
  }
}

const noPlace = () => badQuery('$skiptoken is not one that a link of this list has; begin with the first page.')
