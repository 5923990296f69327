import type { SessionState } from '../client/index.js'
import { allOf, always, anyOf } from '../condition/index.js'
import { type FieldData, type FieldType, tableOf } from '../model/index.js'
import {
  covers,
  decidedFor,
  expand,
  grantsFor,
  inForce,
  isNeverGiven,
  type PlacedGrant,
  whoCondition,
} from '../rules/index.js'
import type { AnyClient, AnyRecord } from './context.js'
import { callerOf } from './verdict.js'

/** The fields that some grant could let this caller set in a new record, where the page knows the rules. */
export function settableIn(
  { rules }: AnyClient,
  table: string,
  session: SessionState | undefined,
): ReadonlySet<string> | undefined {
  if (!rules) return undefined
  const known = inForce(rules, table)
  const caller = session && callerOf(rules, session)
  const couldHold = ({ to, when = always }: PlacedGrant) =>
    !caller ||
    decidedFor(expand(rules, allOf(anyOf(...to.map((who) => whoCondition(known, who))), when)), caller) !== false
  const grants = grantsFor(known, 'create').filter(couldHold)
  const names = Object.keys(tableOf(rules.model, table).fields).filter((name) => !isNeverGiven(rules, table, name))
  return new Set(names.filter((name) => grants.some((grant) => covers(grant, name))))
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
