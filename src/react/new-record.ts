import type { SessionState } from '../client/index.js'
import { type FieldData, type FieldType, tableOf } from '../model/index.js'
import { possibleFields } from '../rules/index.js'
import type { AnyClient, AnyRecord } from './context.js'
import { callerOf } from './verdict.js'

/** The fields that some grant could let this caller set in a new record, where the page knows the rules. */
export function settableIn(
  { rules }: AnyClient,
  table: string,
  session: SessionState | undefined,
): ReadonlySet<string> | undefined {
  if (!rules) return undefined
  return new Set(possibleFields(rules, table, 'create', session && callerOf(rules, session)) ?? [])
}

/** What an input that nobody touched shows of fields that cannot be missing: not ticked, none chosen. */
export function untouched(
  { model }: AnyClient,
  table: string,
  settable: ReadonlySet<string> | undefined = new Set(),
): AnyRecord {
  const shows: Readonly<Partial<Record<FieldType, unknown>>> = { boolean: false, list: [] }
  const isShown = ([name, { type, optional, generated, filled }]: readonly [string, FieldData]) =>
    settable.has(name) && Object.hasOwn(shows, type) && !optional && !generated && !filled
  const fields = Object.entries(tableOf(model, table).fields).filter(isShown)
  return Object.fromEntries(fields.map(([name, { type }]) => [name, shows[type]]))
}
