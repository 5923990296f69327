import type { JsonList } from './dialect.js'
import { type Fragment, join, raw, sql } from './fragment.js'
import { limit as limited } from './limit.js'

/** A call of a function that makes a JSON array of its arguments. */
export const jsonArray =
  (call: string) =>
  (values: readonly Fragment[]): Fragment =>
    sql`${raw(call)}(${join(values, ', ')})`

/** An aggregate over a sorted subquery; a list of nothing is NULL or an empty array. */
export const jsonList =
  (aggregate: Fragment) =>
  ({ each, source, where, order, limit }: JsonList): Fragment =>
    sql`(SELECT ${aggregate} FROM (SELECT ${each} AS _j FROM ${source} WHERE ${where} ORDER BY ${order}${
      limit ? limited(limit) : sql``
    }) AS _s)`

/** How databases sort that hold a missing value to be smaller than any other. */
export const order = (column: Fragment, descending: boolean): Fragment => (descending ? sql`${column} DESC` : column)
