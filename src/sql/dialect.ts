import type { FieldData, Shape, Value } from '../model/index.js'
import type { Fragment } from './fragment.js'

/** What drivers tell of an error. */
export interface DriverError {
  readonly code?: unknown
  readonly errno?: unknown
  readonly errcode?: unknown
}

/** What differs between databases: how a thing is written, and how values travel. */
export interface Dialect {
  readonly name: 'postgresql' | 'sqlite' | 'mariadb'
  /** Whether one value can stand in several places by its number, instead of once for each. */
  readonly numbered: boolean
  /** Whether a write can return the key of what it wrote; else the driver says how many records and which id. */
  readonly returning: boolean
  /** Whether what a write returns goes by the table's alias. */
  readonly aliasReturned: boolean
  /**
   * Whether a record is still the version that this statement's other subqueries saw, where the database does not
   * see to that itself.
   */
  unmoved?(
    table: Fragment,
    column: (name: string) => Fragment,
    key: readonly { readonly name: Fragment; readonly of: Fragment }[],
  ): Fragment
  /** Whether an error of the driver says that another record has the same key, or the same unique values. */
  duplicate(error: DriverError): boolean
  /** What a SELECT of values alone selects from, such as ` FROM DUAL`. */
  readonly fromNothing: string
  /** A name from the model, quoted. */
  identifier(name: string): string
  /** A placeholder for a value of this type, around the mark the driver looks for. */
  placeholder(mark: string, shape: Shape): string
  /** A column as it is selected, so that the driver returns it without loss. */
  selected(column: Fragment, shape: Shape): Fragment
  /** Whether two values are equal, exactly, and both present. */
  equal(left: Fragment, right: Fragment, shape: Shape): Fragment
  /** Whether two values are equal, exactly, or both missing. */
  same(left: Fragment, right: Fragment, shape: Shape): Fragment
  /** Whether a column's value is among those that a subquery about the caller alone selects, exactly. */
  among(column: Fragment, source: Subquery, shape: Shape, form: Form): Fragment
  /** Whether a subquery, looked into for one record, finds this value, exactly. */
  finds(value: Fragment, source: Subquery, shape: Shape, form: Form): Fragment
  /** Whether a gathered filter joins the keys that each branch finds, instead of testing them in place. */
  readonly joinsBranches: boolean
  /** What each form costs, by row: the relations were measured, see docs/benchmarks.md. */
  readonly costs: Readonly<Record<Form, number>>
  /** Tells of each index its `table` and first `column`, and about how many `rows` the table has. */
  readonly catalogue: string
  /** Names each `table` whose changes no transaction takes back, where there can be such. */
  readonly lasting?: string
  /** Tells the `rows` of a table, about, where the catalogue does not. */
  rows?(table: Fragment): Fragment
  /** Whether a value is an item of a list. */
  itemOf(item: Fragment, list: Fragment, shape: Shape): Fragment
  /** Whether two lists have an item in common. */
  overlaps(left: Fragment, right: Fragment, item: Shape): Fragment
  /** Whether the left list has every item of the right one. */
  includesAll(left: Fragment, right: Fragment, item: Shape): Fragment
  /** Whether a text starts with another, exactly. */
  startsWith(text: Fragment, prefix: Fragment): Fragment
  /** At most so many rows, after leaving so many out. */
  limit(count: Fragment | undefined, skipped?: Fragment): Fragment
  /** How to sort by a column, missing values before all others. */
  order(column: Fragment, descending: boolean, optional: boolean): Fragment
  /** A column inside JSON, so that nothing is lost. */
  inJson(column: Fragment, shape: Shape): Fragment
  /** Several values as one JSON array. */
  jsonArray(values: readonly Fragment[]): Fragment
  /** What a subquery selects, in its order, as one JSON array. */
  jsonList(list: JsonList): Fragment
  /** A present value as it came in JSON. */
  fromJson(shape: Shape, value: unknown): unknown
  /** A value as the driver takes it. */
  toDriver(shape: Shape, value: Value): unknown
  /** How to read a present value as the driver returns it; nothing where it comes as it is. */
  reader(shape: Shape): ((value: unknown) => unknown) | undefined
  /** Has the numbers that a column hands out follow on those that are there, where it does not by itself. */
  numberOn?(table: string, column: string): string
  /** The type of a column for a field, for `createTables`. */
  columnType(field: FieldData): string
}

/**
 * How a filter finds its records.
 * - `walk`: goes through the table in the order asked for and looks each record up on its own: best where many
 *   pass and few are wanted, and for a record that is known by its key
 * - `scan`: goes through the table, with what subqueries select computed once for all
 * - `gather`: collects, through the index of each branch of an OR, the keys the caller reaches
 */
export type Form = (typeof FORMS)[number]

export const FORMS = ['walk', 'scan', 'gather'] as const

/** A JSON value for each record of a table that meets a condition. */
export interface JsonList {
  readonly each: Fragment
  readonly source: Fragment
  readonly where: Fragment
  readonly order: Fragment
  readonly limit?: Fragment
}

/** A subquery on one table: what it selects, where from, and under which condition. */
export interface Subquery {
  readonly selected: Fragment
  readonly source: Fragment
  readonly where: Fragment
}
