import { type Condition, isTerm, type Operand, operandFrom, RuleError, type Term } from '../condition/index.js'
import { fieldOf, type FieldName, type ModelData, type TableName, type TablesOf, type ValueOf } from '../model/index.js'
import type { Action, Deny, Grant, Stamps, TableRules, Who } from './rulebook.js'

/** A condition on the caller alone: `anyone`, `signedIn` or a role. */
export type CallerCondition = Extract<Condition, { kind: 'always' | 'signedIn' | 'role' }>

/** Who a grant is for: the name of a tie of the table, or a condition on the caller. */
export type To<Tie extends string> = Tie | CallerCondition

/** A grant that says more than who. */
export interface GrantSpec<M, T extends TableName<M>, Tie extends string> {
  /** Who may, any of them. */
  readonly to: To<Tie> | readonly To<Tie>[]
  /** The fields that may be seen (`read`) or set (`create`, `update`); left out, all. */
  readonly fields?: readonly FieldName<M, T>[]
  /** What must hold of the record besides. */
  readonly when?: Condition
  /** What must hold of the record after an update; left out, the grant itself must still hold. */
  readonly after?: Condition
}

/** Who may do what, by action. */
export type GrantSpecs<M, T extends TableName<M>, Tie extends string> = {
  readonly [A in Action]?: readonly (To<Tie> | GrantSpec<M, T, Tie>)[]
}

/** What overrules every grant. */
export interface DenySpec<Tie extends string> {
  readonly on: Action | readonly Action[]
  readonly when: Condition
  /** Who is exempt. */
  readonly except?: To<Tie> | readonly To<Tie>[]
  /** A sentence for whoever is refused. */
  readonly message: string
}

type StampsFor<M, T extends TableName<M>> = {
  readonly [F in FieldName<M, T>]?:
    ValueOf<TablesOf<M>, TablesOf<M>[T][F]> | Term<ValueOf<TablesOf<M>, TablesOf<M>[T][F]>>
}

/** Builds the rules of one table, step by step; every step returns a new builder. */
export interface TableBuilder<M, T extends TableName<M>, Tie extends string = never> {
  /** What was built so far, as plain data. */
  readonly rules: TableRules
  /** Names the ways in which a caller can be connected to a record. */
  ties<const N extends Readonly<Record<string, Condition>>>(ties: N): TableBuilder<M, T, Tie | (keyof N & string)>
  /** Says who may do what. What is not granted is refused. */
  grants(grants: GrantSpecs<M, T, Tie>): TableBuilder<M, T, Tie>
  /** Says what is refused whatever the grants say. */
  denies(denies: Readonly<Record<string, DenySpec<Tie>>>): TableBuilder<M, T, Tie>
  /** Says which values the server sets; callers cannot set those fields themselves. */
  stamps(stamps: { readonly create?: StampsFor<M, T>; readonly update?: StampsFor<M, T> }): TableBuilder<M, T, Tie>
}

/** The builder of a table's rules, with `rules` in it. */
export function tableBuilder<M, T extends TableName<M>, Tie extends string>(
  model: ModelData,
  table: T,
  rules: TableRules,
): TableBuilder<M, T, Tie> {
  const next = <N extends string>(more: Partial<TableRules>) =>
    tableBuilder<M, T, N>(model, table, { ...rules, ...more })
  return {
    rules,
    ties: (ties) => next({ ties: { ...rules.ties, ...ties } }),
    grants: (grants) => next({ grants: { ...rules.grants, ...plainGrants(grants) } }),
    denies: (denies) => next({ denies: { ...rules.denies, ...plainDenies(denies) } }),
    stamps: ({ create = {}, update = {} }) =>
      next({
        stamps: {
          create: { ...rules.stamps.create, ...plainStamps(model, table, create) },
          update: { ...rules.stamps.update, ...plainStamps(model, table, update) },
        },
      }),
  }
}

type AnyGrant = Who | ({ readonly to: Who | readonly Who[] } & Omit<Grant, 'to'>)

function plainGrants(grants: object): TableRules['grants'] {
  return Object.fromEntries(
    Object.entries(grants).map(([action, given]) => [action, (given as readonly AnyGrant[]).map(plainGrant)]),
  )
}

function plainGrant(given: AnyGrant): Grant {
  if (typeof given === 'string' || 'kind' in given) return { to: [given] }
  const { to, fields, when, after } = given
  return { to: several(to), ...(fields && { fields }), ...(when && { when }), ...(after && { after }) }
}

function plainDenies(denies: Readonly<Record<string, DenySpec<string>>>): Readonly<Record<string, Deny>> {
  return Object.fromEntries(
    Object.entries(denies).map(([name, { on, when, except, message }]) => [
      name,
      { on: several(on), when, except: except === undefined ? [] : several<Who>(except), message },
    ]),
  )
}

function plainStamps(model: ModelData, table: string, stamps: object): Stamps {
  return Object.fromEntries(
    Object.entries(stamps).map(([field, value]) => [field, stampOperand(model, table, field, value)]),
  )
}

function stampOperand(model: ModelData, table: string, field: string, value: unknown): Operand {
  const { operand } = operandFrom(fieldOf(model, table, field), value)
  if (isTerm(value) && operand.kind === 'field') {
    throw new RuleError(`The stamp of ${table}.${field} cannot be taken from a field; use the caller, now or a value.`)
  }
  return operand
}

const several = <V>(given: V | readonly V[]): readonly V[] => (Array.isArray(given) ? given : [given as V])
