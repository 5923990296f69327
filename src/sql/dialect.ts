import type { FieldData, Shape, Value } from '../model/index.js'
import type { Fragment } from './fragment.js'

/** What differs between databases: how a thing is written, and how values travel. */
export interface Dialect {
  readonly name: string
  /** A name from the model, quoted. */
  identifier(name: string): string
  /** A placeholder for a value of this type. */
  placeholder(number: number, shape: Shape): string
  /** Whether the column's value is among those a subquery returns, in the form whose index use is best. */
  among(column: Fragment, subquery: Fragment): Fragment
  /** Whether a value is an item of a list. */
  itemOf(item: Fragment, list: Fragment): Fragment
  /** Whether a text starts with another. */
  startsWith(text: Fragment, prefix: Fragment): Fragment
  /** Whether two values are equal or both missing. */
  same(left: Fragment, right: Fragment): Fragment
  /** A value as the driver takes it. */
  toDriver(shape: Shape, value: Value | null): unknown
  /** A value as the driver returned it. */
  fromDriver(shape: Shape, value: unknown): unknown
  /** The type of a column for a field, for `createTables`. */
  columnType(field: FieldData): string
}
