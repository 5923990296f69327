import type { Condition, Operand } from '../condition/index.js'
import type { ModelData } from '../model/index.js'
import type { CallerShape } from './caller.js'

/** What can be granted. `read` stands for `list` and `get`. */
export const ACTIONS = ['read', 'list', 'get', 'create', 'update', 'delete'] as const

/** An action that can be granted. */
export type Action = (typeof ACTIONS)[number]

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

/** The rules of one table as plain data. */
export interface TableRules {
  readonly ties: Readonly<Record<string, Condition>>
  readonly grants: Readonly<Partial<Record<Action, readonly Grant[]>>>
  readonly denies: Readonly<Record<string, Deny>>
  readonly stamps: { readonly create: Stamps; readonly update: Stamps }
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
  ties: {},
  grants: {},
  denies: {},
  stamps: { create: {}, update: {} },
})

/** The rules of a table; those of a table without any refuse everything. */
export function rulesOf(rulebook: Rulebook, table: string): TableRules {
  return (Object.hasOwn(rulebook.tables, table) && rulebook.tables[table]) || NO_RULES
}

/** A grant with the place it stands in. */
export interface PlacedGrant extends Grant {
  readonly action: Action
  readonly index: number
}

/** The grants that open an action: `list` and `get` are also opened by `read`. `read` itself asks for `get`. */
export function grantsFor(rules: TableRules, action: Action): readonly PlacedGrant[] {
  const places: readonly Action[] = isRead(action) ? ['read', action === 'read' ? 'get' : action] : [action]
  return places.flatMap((place) =>
    (rules.grants[place] ?? []).map((grant, index) => ({ ...grant, action: place, index })),
  )
}

/** A deny with its name. */
export interface NamedDeny extends Deny {
  readonly name: string
}

/** The denies that bear on an action. */
export function deniesFor(rules: TableRules, action: Action): readonly NamedDeny[] {
  const asked = action === 'read' ? 'get' : action
  return Object.entries(rules.denies)
    .filter(([, { on }]) => on.includes(asked) || (isRead(asked) && on.includes('read')))
    .map(([name, deny]) => ({ ...deny, name }))
}

const isRead = (action: Action): boolean => action === 'read' || action === 'list' || action === 'get'

/** Whether a grant covers a field. */
export function covers(grant: Grant, field: string): boolean {
  return grant.fields === undefined || grant.fields.includes(field)
}
