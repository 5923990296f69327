import type { JsonList, ReadList } from './dialect.js'
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

/** A list as databases hand it on that cut nothing off. Inside other JSON, some hand it on as text. */
export const readList = (json: unknown): ReadList => ({ records: parsed(json), whole: true })

/** What a list in JSON holds: nothing, where there is none. */
export const parsed = (json: unknown): ReadList['records'] =>
  ((typeof json === 'string' ? JSON.parse(json) : json) ?? []) as ReadList['records']

/** How databases sort that hold a missing value to be smaller than any other. */
export const order = (column: Fragment, descending: boolean): Fragment => (descending ? sql`${column} DESC` : column)
