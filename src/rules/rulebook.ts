import type { Condition, Operand } from '../condition/index.js'
import { type ModelData, type PlainValue, UnknownNameError } from '../model/index.js'
import type { CallerShape } from './caller.js'

/** What can be granted on every table. `read` stands for `list` and `get`. */
export const ACTIONS = ['read', 'list', 'get', 'create', 'update', 'delete'] as const

/** An action every table has. */
export type StandardAction = (typeof ACTIONS)[number]

/** An action that can be granted: a standard one or one of the table's own, such as `approve`. */
export type Action = string

/** Who is meant: the name of a tie, or a condition on the caller alone. */
export type Who = string | Condition

/** A grant as plain data. It holds where one of `to` does, and `when`. */
export interface Grant {
  readonly to: readonly Who[]
  /** The fields it covers; left out, all. */
  readonly fields?: readonly string[]
  /** What must hold of the record besides. */
  readonly when?: Condition
  /** What must hold of the record after an update, in place of the grant itself. */
  readonly after?: Condition
  /** Whether it is also for records that count as gone. */
  readonly gone?: true
}

/** A deny as plain data. It overrules every grant where `when` holds and the caller is none of `except`. */
export interface Deny {
  readonly on: readonly Action[]
  readonly when: Condition
  readonly except: readonly Who[]
  /** Told to whoever is refused. */
  readonly message: string
}

/** Values the server sets, by field. */
export type Stamps = Readonly<Record<string, Operand>>

/** What values of a field have to be like, whoever sends them. */
export interface FieldCheck {
  /** A create has to give a value, although the field is optional. */
  readonly onCreate?: 'required'
  /** No update may change the value, whatever the grants say. */
  readonly onUpdate?: 'forbidden'
  /** The fewest and the most characters of a text, or items of a list. */
  readonly length?: readonly [least: number, most: number]
  /** The lowest and the highest value of a number, decimal or timestamp, as JSON holds them. */
  readonly range?: readonly [lowest: PlainValue, highest: PlainValue]
  /** A regular expression that a text must match, as JavaScript's `u` flag reads it. */
  readonly pattern?: string
}

/** What must hold of a record's values together, before it is stored. */
export interface RecordCheck {
  readonly that: Condition
  /** Told, for each of the fields, to whoever is refused. */
  readonly message: string
  readonly fields: readonly string[]
}

/** When a record counts as gone: it is not there, but for grants that name such records, and for trusted code. */
export interface Gone {
  readonly when: Condition
  /** What a delete sets instead of removing the record. */
  readonly onDelete?: Stamps
}

/** The rules of one table as plain data. */
export interface TableRules {
  /** The table's own actions. */
  readonly actions: readonly string[]
  readonly ties: Readonly<Record<string, Condition>>
  readonly grants: Readonly<Record<Action, readonly Grant[]>>
  readonly denies: Readonly<Record<string, Deny>>
  /** By action: `create`, `update` or one of the table's own. */
  readonly stamps: Readonly<Record<Action, Stamps>>
  /** Whether it may be told that a hidden record has a key or a unique value, or is there to be referred to. */
  readonly conflicts?: 'told'
  /** What holds of every record that anybody may do anything to, whatever the grants say. */
  readonly fence?: Condition
  readonly gone?: Gone
  readonly checks: {
    readonly fields: Readonly<Record<string, FieldCheck>>
    readonly records: Readonly<Record<string, RecordCheck>>
  }
}

/** The whole of an app's rules as plain JSON data. */
export interface Rulebook {
  readonly format: 'pachter-rulebook'
  readonly version: 1
  readonly model: ModelData
  readonly caller: CallerShape
  readonly tables: Readonly<Record<string, TableRules>>
}

/** A table nobody wrote rules for: nobody may do anything. */
export const NO_RULES: TableRules = Object.freeze({
  actions: [],
  ties: {},
  grants: {},
  denies: {},
  stamps: {},
  checks: { fields: {}, records: {} },
})

/** The rules of a table as they were written; those of a table without any refuse everything. */
export function rulesOf(rulebook: Rulebook, table: string): TableRules {
  return (Object.hasOwn(rulebook.tables, table) && rulebook.tables[table]) || NO_RULES
}

declare const IN_FORCE: unique symbol

/** The rules of a table as they are enforced, made by `inForce`: with what bars records in the place where it counts. */
export interface RulesInForce extends TableRules {
  readonly [IN_FORCE]: true
}

/** A grant with the place it stands in. */
export interface PlacedGrant extends Grant {
  readonly action: Action
  readonly index: number
}

/** The grants that open an action: `list` and `get` are also opened by `read`. `read` itself asks for `get`. */
export function grantsFor(rules: RulesInForce, action: Action): readonly PlacedGrant[] {
  const places: readonly Action[] = isRead(action) ? ['read', action === 'read' ? 'get' : action] : [action]
  // An own action takes no values beside its stamps but those it lists.
  const fields = rules.actions.includes(action) ? { fields: [] } : {}
  return places.flatMap((place) =>
    (rules.grants[place] ?? []).map((grant, index) => ({ ...fields, ...grant, action: place, index })),
  )
}

/** The values the server sets on an action. */
export function stampsFor(rules: TableRules, action: Action): Stamps {
  return rules.stamps[action] ?? {}
}

/** Whether an action changes a record that is there: `update`, or one of the table's own. */
export function changesRecord(rules: TableRules, action: Action): boolean {
  return action === 'update' || rules.actions.includes(action)
}

/**
 * Checks that a table has an action.
 * @throws {UnknownNameError} where it has not
 */
export function assertAction(rules: TableRules, table: string, action: Action): void {
  const known = [...ACTIONS, ...rules.actions]
  if (!known.includes(action)) throw new UnknownNameError('action', action, known, table)
}

/** A deny with its name. */
export interface NamedDeny extends Deny {
  readonly name: string
}

/** The denies that bear on an action. */
export function deniesFor(rules: RulesInForce, action: Action): readonly NamedDeny[] {
  const asked = action === 'read' ? 'get' : action
  return Object.entries(rules.denies)
    .filter(([, { on }]) => on.includes(asked) || (isRead(asked) && on.includes('read')))
    .map(([name, deny]) => ({ ...deny, name }))
}

/** Whether an action only looks. */
export const isRead = (action: Action): boolean => action === 'read' || action === 'list' || action === 'get'

/** Whether a grant covers a field. */
export function covers(grant: Grant, field: string): boolean {
  return grant.fields === undefined || grant.fields.includes(field)
}
