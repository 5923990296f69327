import { PachterError } from '../model/index.js'
import { compileEqual, type TypedFragment } from './compare.js'
import type { Dialect } from './dialect.js'
import { type Fragment, raw, sql } from './fragment.js'

/** Something that a database cannot be asked in one statement. */
export class NotInOneStatementError extends PachterError {
  readonly code = 'not-in-one-statement'
}

/** What both ways along a chain are made of. */
export interface Links {
  /** The table, under the alias of its level. */
  readonly source: Fragment
  readonly level: number
  readonly key: TypedFragment
  readonly next: TypedFragment
  /** That a record is passed. */
  readonly passes: Fragment
  /** That it is what is looked for. */
  readonly holds: Fragment
}

/** From one record to what is above it, each passed once: whether what is looked for is there. */
export function upwards(
  dialect: Dialect,
  { source, level, key, next, passes, holds }: Links,
  start: TypedFragment,
): Fragment {
  const up = raw(`_u${level}`)
  const at = (column: 'k' | 'n') => ({ text: sql`${up}.${raw(column)}`, shape: key.shape })
  const columns = sql`${key.text}, ${next.text}`
  const first = sql`SELECT ${columns} FROM ${source} WHERE ${compileEqual(dialect, key, start)} AND ${passes}`
  const further = sql`SELECT ${columns} FROM ${source} JOIN ${up} ON ${compileEqual(dialect, key, at('n'))} WHERE ${passes}`
  const found = sql`SELECT 1 FROM ${source} JOIN ${up} ON ${compileEqual(dialect, key, at('k'))} WHERE ${holds}`
  return sql`(WITH RECURSIVE ${up} (k, n) AS (${first} UNION ${further}) ${found}${dialect.limit(raw('1'))}) = 1`
}

/** Each record that is passed with each that is above it, and itself: the table of a subquery that selects `a` and `t`. */
export function pairs(
  dialect: Dialect,
  { source, level, key, next, passes }: Omit<Links, 'holds'>,
  alias: string,
): Fragment {
  const down = raw(`_d${level}`)
  const above = { text: sql`${down}.a`, shape: key.shape }
  const first = sql`SELECT ${key.text}, ${key.text} FROM ${source} WHERE ${passes}`
  const further = sql`SELECT ${key.text}, ${down}.t FROM ${source} JOIN ${down} ON ${compileEqual(dialect, next, above)} WHERE ${passes}`
  return sql`(WITH RECURSIVE ${down} (a, t) AS (${first} UNION ${further}) SELECT a, t FROM ${down}) AS ${raw(alias)}`
}

/** The keys of all records that are looked for, and of all below them: the table of a subquery that selects `k`. */
export function downwards(dialect: Dialect, { source, level, key, next, passes, holds }: Links): Fragment {
  const down = raw(`_d${level}`)
  const above = { text: sql`${down}.k`, shape: key.shape }
  const first = sql`SELECT ${key.text} FROM ${source} WHERE ${passes} AND ${holds}`
  const further = sql`SELECT ${key.text} FROM ${source} JOIN ${down} ON ${compileEqual(dialect, next, above)} WHERE ${passes}`
  return sql`(WITH RECURSIVE ${down} (k) AS (${first} UNION ${further}) SELECT k FROM ${down}) AS ${down}`
}
