import {
  allOf,
  assertCondition,
  type CallerCondition,
  type Condition,
  RuleError,
  type Term,
} from '../condition/index.js'
import type { FieldName, ModelData, TableName, TablesOf, ValueOf } from '../model/index.js'
import type { FieldCheck, StandardAction, TableRules } from './rulebook.js'
import { mapEntries, plainCheck, plainDeny, plainGone, plainGrants, plainRecordCheck, plainStamps } from './written.js'

/** Who a grant is for: the name of a tie of the table, or a condition on the caller. */
export type To<Tie extends string> = Tie | CallerCondition

/** A grant that says more than who. */
export interface GrantSpec<M, T extends TableName<M>, Tie extends string> {
  /** Who may, any of them. */
  readonly to: To<Tie> | readonly To<Tie>[]
  /** The fields that may be seen (`read`) or set; left out, all, but for an own action none. */
  readonly fields?: readonly FieldName<M, T>[]
  /** What must hold of the record besides. */
  readonly when?: Condition
  /** What must hold of the record after an update; left out, the grant itself must still hold. */
  readonly after?: Condition
  /** Whether it is also for records that count as gone; see `gone`. */
  readonly gone?: true
}

/** Grants an action to whoever another action of the table is granted to, under the same conditions. */
export interface AsForSpec<M, T extends TableName<M>> {
  readonly asFor: StandardAction
  readonly fields?: readonly FieldName<M, T>[]
  // A grant that says more says who, too.
  readonly to?: never
  readonly when?: never
  readonly after?: never
  readonly gone?: never
}

/** Who may do what, by action. */
export type GrantSpecs<M, T extends TableName<M>, Tie extends string, Own extends string> = {
  readonly [A in StandardAction | Own]?: readonly (To<Tie> | GrantSpec<M, T, Tie> | AsForSpec<M, T>)[]
}

/** What overrules every grant. */
export interface DenySpec<Tie extends string, Own extends string> {
  readonly on: StandardAction | Own | readonly (StandardAction | Own)[]
  readonly when: Condition
  /** Who is exempt. */
  readonly except?: To<Tie> | readonly To<Tie>[]
  /** A sentence for whoever is refused. */
  readonly message: string
}

type StampsSpec<M, T extends TableName<M>> = {
  readonly [F in FieldName<M, T>]?:
    ValueOf<TablesOf<M>, TablesOf<M>[T][F]> | Term<ValueOf<TablesOf<M>, TablesOf<M>[T][F]>>
}

/** What values of fields have to be like. */
export type FieldCheckSpecs<M, T extends TableName<M>> = {
  readonly [F in FieldName<M, T>]?: Omit<FieldCheck, 'range' | 'pattern'> & {
    readonly range?: readonly [
      lowest: ValueOf<TablesOf<M>, TablesOf<M>[T][F]>,
      highest: ValueOf<TablesOf<M>, TablesOf<M>[T][F]>,
    ]
    readonly pattern?: RegExp
  }
}

/** What must hold of a record's values together; a condition on the record as it will be. */
export type RecordCheckSpecs<M, T extends TableName<M>> = Readonly<
  Record<
    string,
    {
      readonly that: Condition
      readonly message: string
      /** The fields that the message stands at; none, the values as a whole. */
      readonly fields: readonly FieldName<M, T>[]
    }
  >
>

declare const OWN: unique symbol

/** The rules of a table, and for the compiler the actions of its own. */
export interface BuiltRules<Own extends string = string> {
  /** What was built so far, as plain data. */
  readonly rules: TableRules
  readonly [OWN]?: Own
}

/** The names of the actions of its own that the rules of a table were built with. */
export type OwnActions<B> = B extends { readonly [OWN]?: infer Own } ? Extract<Own, string> : never

/**
 * Builds the rules of one table, step by step; every step returns a new builder. What one step says, no later one unsays: grants
 * add up, and a name that is used again, or a field that is stamped or checked again, is an error.
 */
export interface TableBuilder<
  M,
  T extends TableName<M>,
  Tie extends string = never,
  Own extends string = never,
> extends BuiltRules<Own> {
  /** Names the ways in which a caller can be connected to a record. */
  ties<const N extends Readonly<Record<string, Condition>>>(ties: N): TableBuilder<M, T, Tie | (keyof N & string), Own>
  /** Names what can be done to a record besides reading, creating, updating and deleting it. */
  actions<const A extends string>(...names: readonly A[]): TableBuilder<M, T, Tie, Own | A>
  /** Says who may do what, besides what was granted before. What is not granted is refused. */
  grants(grants: GrantSpecs<M, T, Tie, Own>): TableBuilder<M, T, Tie, Own>
  /** Says what is refused whatever the grants say. */
  denies(denies: Readonly<Record<string, DenySpec<Tie, Own>>>): TableBuilder<M, T, Tie, Own>
  /** Says which values the server sets; callers cannot set those fields in that action themselves. */
  stamps(stamps: { readonly [A in 'create' | 'update' | Own]?: StampsSpec<M, T> }): TableBuilder<M, T, Tie, Own>
  /**
   * Says that it may be told whether a key or a unique value is taken, and whether there is a record that a reference
   * leads to, also where the caller does not see the record in question. Left out, callers give no such value where
   * the answer could tell of what is hidden from them.
   */
  conflicts(told: 'told'): TableBuilder<M, T, Tie, Own>
  /**
   * Says what holds of every record that anybody may do anything to, whatever the grants say: that it belongs to the
   * caller's organisation, say. Records beyond the fence are not there, also for what follows a reference.
   */
  fence(condition: Condition): TableBuilder<M, T, Tie, Own>
  /**
   * Says when a record counts as gone: it is then in no list and no count, no step leads to it, and nobody may do anything
   * to it, but by grants with `gone: true`. Trusted code finds it.
   *
   * @param when a condition on the record's own fields
   * @param options `onDelete`: what a delete sets, instead of removing the record
   * @example table.gone(row.removedAt.isSet(), { onDelete: { removedAt: now } })
   */
  gone(when: Condition, options?: { readonly onDelete?: StampsSpec<M, T> }): TableBuilder<M, T, Tie, Own>
  /** Says what values have to be like, one by one and together, whoever sends them. */
  checks(fields: FieldCheckSpecs<M, T>, records?: RecordCheckSpecs<M, T>): TableBuilder<M, T, Tie, Own>
}

/** The builder of a table's rules, with `rules` in it. */
export function tableBuilder<M, T extends TableName<M>, Tie extends string, Own extends string>(
  model: ModelData,
  table: T,
  rules: TableRules,
): TableBuilder<M, T, Tie, Own> {
  const next = <N extends string, A extends string>(more: Partial<TableRules>) =>
    tableBuilder<M, T, N, A>(model, table, { ...rules, ...more })
  return {
    rules,
    ties: (ties) => next({ ties: joined('tie', rules.ties, mapEntries(ties, assertCondition)) }),
    actions: (...names) => next({ actions: [...rules.actions, ...names] }),
    grants: (grants) => next({ grants: { ...rules.grants, ...plainGrants(rules.grants, grants) } }),
    denies: (denies) => next({ denies: joined('deny', rules.denies, mapEntries(denies, plainDeny)) }),
    stamps: (stamps) => {
      const more = mapEntries(stamps, (values, action) =>
        joined(`${action} stamp of`, rules.stamps[action] ?? {}, plainStamps(model, table, values)),
      )
      return next({ stamps: { ...rules.stamps, ...more } })
    },
    conflicts: (conflicts) => next({ conflicts }),
    fence: (fence) =>
      next({ fence: rules.fence ? allOf(rules.fence, assertCondition(fence)) : assertCondition(fence) }),
    gone: (when, options = {}) => {
      const gone = plainGone(model, table, when, options)
      return next(joined('condition', rules.gone ? { gone: rules.gone } : {}, { gone }))
    },
    checks: (fields, records = {}) => {
      const more = mapEntries(fields, (check, field) =>
        joined(`check of ${field}, its`, rules.checks.fields[field] ?? {}, plainCheck(model, table, field, check)),
      )
      return next({
        checks: {
          fields: { ...rules.checks.fields, ...more },
          records: joined('check', rules.checks.records, mapEntries(records, plainRecordCheck)),
        },
      })
    },
  }
}

/** What was said before and what is said now, of which none takes the place of another. */
function joined<A extends object>(what: string, before: A, more: A): A {
  const twice = Object.keys(more).find((name) => Object.hasOwn(before, name))
  if (twice === undefined) return { ...before, ...more }
  throw new RuleError(`the ${what} ${twice} is written twice; write it once, or give the other a name of its own.`)
}
