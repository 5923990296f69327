import {
  childOf,
  childrenOf,
  type IsUnion,
  type Model,
  type ModelData,
  type ParentName,
  parentsOf,
  type Referring,
  type ReferringFields,
  type Relation,
  type TableName,
  tableOf,
  type TablesOf,
  type TargetOf,
  UnknownNameError,
  type ValueOf,
} from '../model/index.js'
import { atNewLevel, term, type TermFor, wrapSteps } from './term.js'
import { assertCondition, made } from './logic.js'
import { always, anyOf, type Condition, notOf } from './tree.js'

/** The records of a table that refer to this one. */
export interface Many<M, C extends TableName<M>> {
  /** Whether there is one, or one that meets the condition. */
  some(where?: (row: Row<M, C>) => Condition): Condition
  /** Whether there is none, or none that meets the condition. */
  none(where?: (row: Row<M, C>) => Condition): Condition
  /** Whether all meet the condition; true where there is none. */
  every(where: (row: Row<M, C>) => Condition): Condition
}

interface ManyBy<M, C extends TableName<M>, F extends string> {
  /** Those that refer by this field. */
  by(field: F): Many<M, C>
}

/** The record a rule is about, as its conditions see it: fields, the records referred to, those referring to it. */
export type Row<M, T extends TableName<M>> = {
  readonly [F in keyof TablesOf<M>[T] & string]: TermFor<ValueOf<TablesOf<M>, TablesOf<M>[T][F]>>
} & {
  readonly [
    F in keyof TablesOf<M>[T] & string as [TargetOf<TablesOf<M>[T][F]>] extends [null] ? never : ParentName<F>
  ]: Row<M, TargetOf<TablesOf<M>[T][F]> & TableName<M>>
} & {
  readonly [C in Referring<M, T>]: IsUnion<ReferringFields<M, C, T>> extends true
    ? ManyBy<M, C, ReferringFields<M, C, T>>
    : Many<M, C> & ManyBy<M, C, ReferringFields<M, C, T>>
} & {
  /** Whether the caller may do this to the record, by the rules of the record's own table. */
  may(action: string): Condition
} & Chained<M, T>

/** Tables whose records refer to others of them, such as a folder in a folder, have chains. */
type Chained<M, T extends TableName<M>> = [ReferringFields<M, T, T>] extends [never]
  ? unknown
  : {
      /**
       * The record and all that is above it: the one that this field refers to, the one above that, and so forth, until there
       * is none, or one that was passed before. Records that are gone, or behind a fence, end it.
       *
       * @example row.folder.chain('parentId').some((folder) => folder.ownerId.is(caller.id))
       */
      chain(field: ReferringFields<M, T, T>): Many<M, T>
    }

/** Makes the row of a table for the conditions of its rules. */
export function rowOf<M extends Model, T extends TableName<M>>(model: M, table: T): Row<M, T> {
  return buildRow(model, table, 0, []) as Row<M, T>
}

function buildRow(model: ModelData, table: string, level: number, steps: readonly Relation[]): object {
  const { fields } = tableOf(model, table)
  const parents = new Map(parentsOf(model, table).map((relation) => [relation.name, relation]))
  const children = new Set(childrenOf(model, table).map(({ name }) => name))

  const member = (name: string): unknown => {
    const field = Object.hasOwn(fields, name) ? fields[name] : undefined
    if (field) return term({ shape: field, operand: { kind: 'field', level, name }, level, steps })
    const parent = parents.get(name)
    if (parent) return buildRow(model, parent.table, level, [...steps, parent])
    if (children.has(name)) return buildMany(model, table, name, level, steps)
    if (name === 'chain') return (by: string) => buildChain(model, table, level, steps, by)
    if (name === 'may') return (action: string) => may(table, action, level, steps)
    throw new UnknownNameError(
      'field or relation',
      name,
      [...Object.keys(fields), ...parents.keys(), ...children],
      table,
    )
  }
  return new Proxy({}, { get: (_, name) => (typeof name === 'string' ? member(name) : undefined) })
}

function buildMany(
  model: ModelData,
  table: string,
  name: string,
  level: number,
  steps: readonly Relation[],
  by?: string,
): Record<string, unknown> {
  const some = (where: (row: never) => Condition = () => made(always)): Condition => {
    const child = childOf(model, table, name, by)
    const inner = (to: number) => assertCondition(where(buildRow(model, child.table, to, []) as never))
    return made(atNewLevel(steps.length, (to) => wrapSteps(level, [...steps, child], to - steps.length)(inner(to))))
  }
  return { ...manyOf(some), by: (field: string) => buildMany(model, table, name, level, steps, field) }
}

function buildChain(
  model: ModelData,
  table: string,
  level: number,
  steps: readonly Relation[],
  by: string,
): Record<string, unknown> {
  const own = parentsOf(model, table).filter((each) => each.table === table)
  const relation = own.find(({ from }) => from === by)
  if (!relation) {
    throw new UnknownNameError(
      `reference from ${table} to ${table}`,
      by,
      own.map(({ from }) => from),
    )
  }
  type Where = (row: never) => Condition
  const meets = (where: Where, at: number) => assertCondition(where(buildRow(model, table, at, []) as never))
  const above = (path: readonly Relation[], where: Where) =>
    atNewLevel(path.length - 1, (to) => wrapSteps(level, path, to - path.length + 1, by)(meets(where, to)))
  const some = (where: Where = () => made(always)): Condition =>
    // A record that is not stored yet is the beginning of its chain all the same.
    made(steps.length > 0 ? above(steps, where) : anyOf(meets(where, level), above([relation], where)))
  return manyOf(some)
}

/** What can be asked of several records, from whether there is one. */
const manyOf = (some: (where?: (row: never) => Condition) => Condition): Record<string, unknown> => ({
  some,
  none: (where?: (row: never) => Condition) => made(notOf(some(where))),
  every: (where: (row: never) => Condition) => made(notOf(some((row) => made(notOf(assertCondition(where(row))))))),
})

function may(table: string, action: string, level: number, steps: readonly Relation[]): Condition {
  if (steps.length === 0) return made({ kind: 'may', level, table, action })
  return made(
    atNewLevel(steps.length - 1, (to) =>
      wrapSteps(level, steps, to - steps.length + 1)({ kind: 'may', level: to, table, action }),
    ),
  )
}
