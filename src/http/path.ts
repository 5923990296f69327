import { closedVerdict, type Inquiry, isClosed, refusal, verdictFrom } from '../decide/index.js'
import { keyFieldsOf, keyPath, type KeyValues, type ModelData, readKey, readTyped } from '../model/index.js'

/** What a path below the base leads to. */
export type Route =
  | { readonly to: 'description' }
  | { readonly to: 'caller' }
  | { readonly to: 'table'; readonly table: string }
  | { readonly to: 'bulk'; readonly table: string }
  | { readonly to: 'record'; readonly table: string; readonly key: string }
  | { readonly to: 'action'; readonly table: string; readonly key: string; readonly action: string }

/** The last part of the path of the description. */
export const DESCRIPTION = 'openapi.json'
/** The last part of the path that says who asks. No table is called so. */
export const CALLER = '$caller'
/** The last part of the path for writes of many records. A key that is this text is written `%24bulk`. */
export const BULK = '$bulk'

/**
 * Reads a path.
 *
 * @param path what stands behind the base, with the slash
 * @returns nothing where it leads nowhere
 */
export function routeOf(path: string): Route | undefined {
  const [empty, table = '', key, action, ...rest] = path.split('/')
  if (empty !== '' || table === '' || rest.length > 0 || key === '' || action === '') return undefined
  if (table === DESCRIPTION) return key === undefined ? { to: 'description' } : undefined
  if (table === CALLER) return key === undefined ? { to: 'caller' } : undefined
  if (key === undefined) return { to: 'table', table }
  if (key === BULK) return action === undefined ? { to: 'bulk', table } : undefined
  return action === undefined ? { to: 'record', table, key } : { to: 'action', table, key, action }
}

/**
 * The key that a part of a path writes; nothing where it writes none.
 *
 * @example keyFrom(model, 'entryShares', '4,7') // { entryId: 4, memberId: 7 }
 */
export function keyFrom(model: ModelData, table: string, written: string): KeyValues | undefined {
  try {
    return keyOf(model, table, written.split(',').map(decodeURIComponent))
  } catch {
    return undefined
  }
}

/** The same for a part of a path that a server has read: it says what `%2C` and the like stand for. */
export const keyFromRead = (model: ModelData, table: string, read: string): KeyValues | undefined =>
  keyOf(model, table, keyFieldsOf(model, table).length === 1 ? [read] : read.split(','))

function keyOf(model: ModelData, table: string, parts: readonly string[]): KeyValues | undefined {
  const fields = keyFieldsOf(model, table)
  if (parts.length !== fields.length) return undefined
  try {
    const values = fields.map(([name, field], at) => [name, readTyped(field, parts[at] as string)])
    const key = readKey(model, table, Object.fromEntries(values))
    // One way to write each key: `7`, and neither `07` nor `7.0`.
    return keyPath(model, table, key) === parts.map(encodeURIComponent).join(',') ? key : undefined
  } catch {
    return undefined
  }
}

/** What is said of a record that is not there, since no record has such a key. */
export const refusalOfAbsent = (inquiry: Inquiry): Error =>
  refusal(isClosed(inquiry) ? closedVerdict(inquiry) : verdictFrom(inquiry, () => false))
