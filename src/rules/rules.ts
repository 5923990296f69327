import { always, type OrderedTerm, type Row, rowOf, RuleError, term, type TermFor } from '../condition/index.js'
import { deepFreeze, type FieldData, type Model, type TableName, tableOf } from '../model/index.js'
import type { AttributesOf, CallerDefinition, RoleOf } from './caller.js'
import { checkRulebook } from './check.js'
import { NO_RULES, type Rulebook, type TableRules } from './rulebook.js'
import { type CallerCondition, type TableBuilder, tableBuilder } from './table.js'

declare const TYPES: unique symbol

/** A rulebook that also remembers, for the compiler, the model and the callers it is about. */
export interface Rules<M = Model, C = CallerDefinition> extends Rulebook {
  readonly [TYPES]?: { readonly model: M; readonly caller: C }
}

/** What the rules of a table are written with. */
export interface RuleContext<M, C, T extends TableName<M>> {
  /** The record the rule is about. */
  readonly row: Row<M, T>
  /** The attributes of whoever is asking. A missing one makes every comparison false. */
  readonly caller: { readonly [A in keyof AttributesOf<C> & string]: TermFor<AttributesOf<C>[A]> }
  /** Whoever has at least one of these roles. */
  role(...anyOf: readonly [RoleOf<C>, ...RoleOf<C>[]]): CallerCondition
  /** Whoever has signed in. */
  readonly signedIn: CallerCondition
  /** Everyone, signed in or not. */
  readonly anyone: CallerCondition
  /** The moment of the request. */
  readonly now: OrderedTerm<Date>
  /** The start of the table's rules: `table.ties({…}).grants({…})`. */
  readonly table: TableBuilder<M, T>
}

/** The rules by table, as functions of what they are written with. */
export type RuleFunctions<M, C> = {
  readonly [T in TableName<M>]?: (context: RuleContext<M, C, T>) => { readonly rules: TableRules }
}

/**
 * Writes the rules of an app: for each table, who is tied to a record how, and who may do what.
 * A table that is left out, and an action that is not granted, is closed to everyone.
 *
 * @param model the tables, from `defineModel`
 * @param caller what callers look like, from `defineCaller`
 * @param tables a function for each table, given `row`, `caller`, `role`, `signedIn`, `anyone`, `now` and `table`
 * @returns the rulebook: frozen plain data that survives `JSON.stringify`, typed
 * @throws {RuleError} where a rule does not fit the model, with its place
 * @throws {UnknownNameError} where a rule names what is not there
 * @example
 * const rules = defineRules(model, caller, {
 *   plots: ({ row, caller, anyone, table }) =>
 *     table
 *       .ties({ holder: row.holderId.is(caller.id) })
 *       .grants({ read: [anyone], update: [{ to: 'holder', fields: ['crop'] }] }),
 * })
 */
export function defineRules<M extends Model, C extends CallerDefinition>(
  model: M,
  caller: C,
  tables: RuleFunctions<M, C>,
): Rules<M, C> {
  const shared = {
    caller: callerTerms(caller.attributes),
    role: (...anyOf: string[]) => ({ kind: 'role', anyOf }),
    signedIn: { kind: 'signedIn' },
    anyone: always,
    now: term({ shape: { type: 'timestamp' }, operand: { kind: 'now', plusSeconds: 0 }, level: 0, steps: [] }),
  }
  const built: Record<string, TableRules> = {}
  for (const [name, write] of Object.entries(tables)) {
    tableOf(model, name)
    const table = name as TableName<M>
    const context = { ...shared, row: rowOf(model, table), table: tableBuilder(model, table, NO_RULES) }
    built[name] = (write as (context: unknown) => { rules: TableRules })(context).rules
  }
  const rulebook: Rulebook = {
    format: 'pachter-rulebook',
    version: 1,
    model: { tables: model.tables },
    caller: { attributes: caller.attributes, roles: caller.roles },
    tables: built,
  }
  checkRulebook(rulebook)
  return deepFreeze(structuredClone(rulebook)) as Rules<M, C>
}

function callerTerms(attributes: Readonly<Record<string, FieldData>>): object {
  const terms = Object.fromEntries(
    Object.entries(attributes).map(([name, shape]) => [
      name,
      term({ shape, operand: { kind: 'caller', name }, level: 0, steps: [] }),
    ]),
  )
  return new Proxy(terms, {
    get(_, name) {
      if (typeof name !== 'string' || Object.hasOwn(terms, name)) return terms[name as string]
      throw new RuleError(
        `Callers have no attribute ${JSON.stringify(name)}; there is ${Object.keys(terms).join(', ')}.`,
      )
    },
  })
}
