import {
  allOf,
  always,
  anyOf,
  type CallerCondition,
  type Condition,
  made,
  type Moment,
  moment,
  notOf,
  type Row,
  rowOf,
  RuleError,
  term,
  type TermFor,
  unchanged,
  withoutLoose,
} from '../condition/index.js'
import {
  assertKnown,
  deepFreeze,
  type FieldData,
  fieldOf,
  type FieldName,
  type Model,
  type ModelData,
  show,
  type TableName,
  tableOf,
  type TablesOf,
  UnknownNameError,
  type ValueOf,
} from '../model/index.js'
import type { StandingOf, AttributesOf, CallerDefinition, ChannelOf, RoleOf } from './caller.js'
import { at } from './at.js'
import { checkRulebook } from './check.js'
import { noteChecked } from './checked.js'
import { NO_RULES, type Rulebook, type TableRules } from './rulebook.js'
import { type BuiltRules, type OwnActions, type TableBuilder, tableBuilder } from './table.js'

declare const TYPES: unique symbol

/** A rulebook that also remembers, for the compiler, the model and the callers it is about. */
export interface Rules<M = Model, C = CallerDefinition, A = AnyActions> extends Rulebook {
  readonly [TYPES]?: { readonly model: M; readonly caller: C; readonly actions: A }
}

/** What tables can have as actions of their own, where the compiler does not know. */
export type AnyActions = Readonly<Record<string, string>>

/** The actions of a table's own. */
export type OwnAction<A, T extends string> = T extends keyof A ? A[T] & string : never

/** What the rules of a table are written with. */
export interface RuleContext<M, C, T extends TableName<M>> {
  /** The record the rule is about. */
  readonly row: Row<M, T>
  /** The record as it was, for conditions on how it will be: `after` of a grant, and checks. */
  readonly old: {
    readonly [F in FieldName<M, T>]: TermFor<ValueOf<TablesOf<M>, TablesOf<M>[T][F]>>
  }
  /** Whether the change sets at least one of these fields to another value. */
  changed(...fields: readonly [FieldName<M, T>, ...FieldName<M, T>[]]): Condition
  /**
   * The attributes of whoever is asking, and `roles`, the list of roles the caller came with. A missing one
   * makes every comparison false.
   */
  readonly caller: { readonly [A in keyof AttributesOf<C> & string]: TermFor<AttributesOf<C>[A]> } & {
    readonly roles: TermFor<readonly string[]>
  }
  /** Whoever has at least one of these roles. */
  role(...anyOf: readonly [RoleOf<C>, ...RoleOf<C>[]]): CallerCondition
  /** Whoever has one of the roles that make up this standing. */
  standing(standing: StandingOf<C>): CallerCondition
  /** Whoever comes in by one of these channels. */
  channel(...anyOf: readonly [ChannelOf<C>, ...ChannelOf<C>[]]): CallerCondition
  /** Whoever has signed in. */
  readonly signedIn: CallerCondition
  /** Everyone, signed in or not. */
  readonly anyone: CallerCondition
  /** The moment of the request. */
  readonly now: Moment
  /** The start of the table's rules: `table.ties({…}).grants({…})`. */
  readonly table: TableBuilder<M, T>
}

/** The rules by table, as functions of what they are written with. */
export type RuleFunctions<M, C> = {
  readonly [T in TableName<M>]?: (context: RuleContext<M, C, T>) => BuiltRules
}

/** What holds in many tables at once. */
export interface RulesOptions<M, C> {
  /**
   * Fences off every table of the model by a field that holds the value of an attribute of the caller's: their
   * organisation. A table without that field has to have a fence of its own, or to stand outside.
   */
  readonly fence?: {
    readonly field: string
    readonly is: keyof AttributesOf<C> & string
    /** The tables whose records are everybody's. */
    readonly outside?: readonly TableName<M>[]
  }
}

/** That rules are written for tables that are there, as far as their names are known to the compiler. */
type NoOthers<F, T> = string extends keyof F ? unknown : { readonly [K in Exclude<keyof F, T>]: never }

/** The actions of each table's own, from the functions that its rules were written with. */
type ActionsIn<F> = {
  readonly [T in keyof F & string]: F[T] extends (context: never) => infer B ? OwnActions<B> : never
}

/**
 * Writes the rules of an app: for each table, who is tied to a record how, and who may do what.
 * A table that is left out, and an action that is not granted, is closed to everyone.
 *
 * @param model the tables, from `defineModel`
 * @param caller what callers look like, from `defineCaller`
 * @param tables a function for each table, given what {@link RuleContext} lists
 * @param options what holds in many tables at once
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
export function defineRules<M extends Model, C extends CallerDefinition, F extends RuleFunctions<M, C>>(
  model: M,
  caller: C,
  tables: F & NoOthers<F, TableName<M>>,
  options: RulesOptions<M, C> = {},
): Rules<M, C, ActionsIn<F>> {
  assertKnown('option', options, ['fence'], 'defineRules')
  assertKnown('option', options.fence ?? {}, ['field', 'is', 'outside'], 'the fence')
  if ('fence' in options && !options.fence)
    throw new RuleError('A fence is said, and nothing of it; leave it out, or say it.')
  const shared = {
    caller: callerTerms(caller.attributes),
    role: (...anyOf: string[]) => made({ kind: 'role', anyOf }),
    standing: (standing: string) => made({ kind: 'role', anyOf: rolesFor(caller, standing), standing }),
    channel: (...anyOf: string[]) => made({ kind: 'channel', anyOf }),
    signedIn: made({ kind: 'signedIn' }),
    anyone: made(always),
    now: moment(0),
    changed: (...fields: string[]) => made(anyOf(...fields.map((field) => notOf(unchanged(field))))),
  }
  const built: Record<string, TableRules> = {}
  for (const [name, write] of Object.entries<unknown>(tables)) {
    tableOf(model, name)
    const table = name as TableName<M>
    const context = {
      ...shared,
      row: rowOf(model, table),
      old: oldTerms(model, name),
      table: tableBuilder(model, table, NO_RULES),
    }
    built[name] = at(name, () => writtenBy(write, context))
  }
  const rulebook: Rulebook = {
    format: 'pachter-rulebook',
    version: 1,
    model: { tables: model.tables },
    caller: structuredClone(caller),
    tables: options.fence ? fencedOff(model, caller, built, options.fence) : built,
  }
  checkRulebook(rulebook)
  return noteChecked(deepFreeze(structuredClone(rulebook)) as Rules<M, C, ActionsIn<F>>)
}

function writtenBy(write: unknown, context: object): TableRules {
  if (typeof write !== 'function') throw new RuleError(`they are ${show(write)}, and no function that writes them.`)
  const built: unknown = withoutLoose(() => (write as (context: object) => unknown)(context))
  const { rules } = (built ?? {}) as Partial<BuiltRules>
  if (rules) return rules
  throw new RuleError('what writes them returns none: return table.…, and no promise of it.')
}

/** Puts the fence into every table that has its field; one that has none of its own either is left out by mistake. */
function fencedOff(
  model: ModelData,
  caller: CallerDefinition,
  built: Readonly<Record<string, TableRules>>,
  { field, is, outside = [] }: NonNullable<RulesOptions<unknown, CallerDefinition>['fence']>,
): Readonly<Record<string, TableRules>> {
  if (!Object.hasOwn(caller.attributes, is)) {
    throw new UnknownNameError('caller attribute', is, Object.keys(caller.attributes))
  }
  for (const name of outside) tableOf(model, name)
  const condition: Condition = {
    kind: 'compare',
    how: 'is',
    left: { kind: 'field', level: 0, name: field },
    right: { kind: 'caller', name: is },
  }
  const fenced = Object.entries(model.tables).map(([name, { fields }]) => {
    const rules = built[name] ?? NO_RULES
    if (outside.includes(name)) return [name, rules] as const
    if (Object.hasOwn(fields, field)) {
      return [name, { ...rules, fence: rules.fence ? allOf(condition, rules.fence) : condition }] as const
    }
    if (rules.fence) return [name, rules] as const
    throw new RuleError(
      `${name} has no ${field} to be fenced off by: give it a fence of its own, or name it among those outside.`,
    )
  })
  return Object.fromEntries(fenced)
}

function callerTerms(attributes: Readonly<Record<string, FieldData>>): object {
  const shapes = { ...attributes, roles: { type: 'list', item: 'text' } as const }
  const terms = Object.fromEntries(
    Object.entries(shapes).map(([name, shape]) => [
      name,
      term({ shape, operand: { kind: 'caller', name }, level: 0, steps: [] }),
    ]),
  )
  return new Proxy(terms, {
    get(_, name) {
      if (typeof name !== 'string' || Object.hasOwn(terms, name)) return terms[name as string]
      throw new RuleError(`Callers have no attribute ${JSON.stringify(name)}; known: ${Object.keys(terms).join(', ')}.`)
    },
  })
}

function oldTerms(model: ModelData, table: string): object {
  return new Proxy(
    {},
    {
      get: (_, name) =>
        typeof name === 'string'
          ? term({ shape: fieldOf(model, table, name), operand: { kind: 'old', name }, level: 0, steps: [] })
          : undefined,
    },
  )
}

function rolesFor({ standings }: CallerDefinition, standing: string): readonly string[] {
  const found = Object.hasOwn(standings, standing) ? standings[standing] : undefined
  if (!found) throw new UnknownNameError('standing', standing, Object.keys(standings))
  return found
}
