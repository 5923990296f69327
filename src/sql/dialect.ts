import type { FieldData, Shape, Value } from '../model/index.js'
import type { Fragment } from './fragment.js'

/** What differs between databases: how a thing is written, and how values travel. */
export interface Dialect {
  readonly name: 'postgresql' | 'sqlite' | 'mariadb'
  /** Whether one value can stand in several places by its number, instead of once for each. */
  readonly numbered: boolean
  /** Whether a write can return the key of what it wrote; else the driver says how many records and which id. */
  readonly returning: boolean
  /** What a SELECT of values alone selects from, such as ` FROM DUAL`. */
  readonly fromNothing: string
  /** A name from the model, quoted. */
  identifier(name: string): string
  /** A placeholder for a value of this type. */
  placeholder(number: number, shape: Shape): string
  /** A column as it is selected, so that the driver returns it without loss. */
  selected(column: Fragment, shape: Shape): Fragment
  /** Whether two values are equal, exactly, and both present. */
  equal(left: Fragment, right: Fragment, shape: Shape): Fragment
  /** Whether two values are equal, exactly, or both missing. */
  same(left: Fragment, right: Fragment, shape: Shape): Fragment
  /** Whether a column's value is among those a subquery selects from the other table, exactly. */
  among(column: Fragment, source: Subquery, shape: Shape): Fragment
  /** Whether a value is an item of a list. */
  itemOf(item: Fragment, list: Fragment, shape: Shape): Fragment
  /** Whether two lists have an item in common. */
  overlaps(left: Fragment, right: Fragment, item: Shape): Fragment
  /** Whether the left list has every item of the right one. */
  includesAll(left: Fragment, right: Fragment, item: Shape): Fragment
  /** Whether a text starts with another, exactly. */
  startsWith(text: Fragment, prefix: Fragment): Fragment
  /** At most so many rows. */
  limit(count: Fragment): Fragment
  /** A value as the driver takes it. */
  toDriver(shape: Shape, value: Value): unknown
  /** A present value as the driver returned it. */
  fromDriver(shape: Shape, value: unknown): unknown
  /** The type of a column for a field, for `createTables`. */
  columnType(field: FieldData): string
}

/** A subquery on one table: what it selects, where from, and under which condition. */
export interface Subquery {
  readonly selected: Fragment
  readonly source: Fragment
  readonly where: Fragment
}
