import type { Shape } from '../../model/index.js'
import { signed } from '../compare.js'
import type { Dialect, Subquery } from '../dialect.js'
import { type Fragment, isSlot, sql } from '../fragment.js'
import { jsonArray, jsonList, order, readList } from '../json.js'
import { limit } from '../limit.js'
import { types } from './types.js'

/** What SQLite calls a key or a unique value that is there already, by number: for `node:sqlite`. */
const DUPLICATE: ReadonlySet<unknown> = new Set([1555, 2067, 2579])

/** The same of a value that a check does not take, or that is missing where one has to be. */
const MISFIT: ReadonlySet<unknown> = new Set([275, 1299])

const lowByte = (code: unknown): number | undefined => (typeof code === 'number' ? code & 0xff : undefined)

const isText = ({ type }: Shape): boolean => type === 'text' || type === 'choice' || type === 'uuid'

/** A column may have been declared to ignore case; asked for by name, the exact order is used. */
const exact = (value: Fragment, shape: Shape): Fragment => (isText(shape) ? sql`${value} COLLATE BINARY` : value)

/** A list as rows. A column can have anything for one, and what is no JSON would end the whole statement: it includes nothing. */
const rowsOf = (list: Fragment): Fragment =>
  isSlot(list)
    ? sql`json_each(${list})`
    : sql`json_each(iif(json_valid(${list}) AND json_type(${list}) = 'array', ${list}, '[]'))`

const items = (list: Fragment): Fragment => sql`SELECT value FROM ${rowsOf(list)}`

const equal = (left: Fragment, right: Fragment, shape: Shape): Fragment => sql`${left} = ${exact(right, shape)}`

/** Texts, which sort as the moments do: what is finer stands between the milliseconds and the Z. */
const instant = (moment: Fragment): Fragment => sql`substr(${moment}, 1, 23)`

/** SQLite 3.38 and later. */
export const sqlite: Dialect = Object.freeze({
  name: 'sqlite',
  numbered: false,
  returning: true,
  aliasReturned: false,
  problem: ({ code, errcode }) => {
    if (/^SQLITE_CONSTRAINT_(?:PRIMARYKEY|UNIQUE|ROWID)$/.test(String(code)) || DUPLICATE.has(errcode))
      return 'duplicate'
    if (/^SQLITE_CONSTRAINT_(?:CHECK|NOTNULL)$/.test(String(code)) || MISFIT.has(errcode)) return 'misfit'
    if (String(code).startsWith('SQLITE_CONSTRAINT') || lowByte(errcode) === 19) return 'constraint'
    return String(code).startsWith('SQLITE_BUSY') || lowByte(errcode) === 5 ? 'busy' : undefined
  },
  failsWhole: false,
  // From its beginning the only one that writes.
  begin: ['BEGIN IMMEDIATE'],
  fromNothing: '',
  identifier: (name) => `"${name.replaceAll('"', '""')}"`,
  types,
  comparisons: {
    ...signed({ equal, instant }),
    startsWith: ({ text }, prefix) => sql`substr(${text}, 1, length(${prefix.text})) = ${prefix.text} COLLATE BINARY`,
    in: ({ text, shape }, list) => sql`${exact(text, shape)} IN (${items(list.text)})`,
    overlaps: (left, right) =>
      exists(sql`SELECT 1 FROM ${rowsOf(left.text)} AS _l WHERE _l.value IN (${items(right.text)})`),
    includesAll: (left, right) =>
      sql`(${left.text} IS NOT NULL AND ${right.text} IS NOT NULL AND NOT EXISTS (SELECT 1 FROM ${rowsOf(right.text)} AS _m WHERE _m.value NOT IN (${items(left.text)})))`,
  },
  equal,
  same: (left, right, shape) => sql`${left} IS ${exact(right, shape)}`,
  // Several of these in an OR make a search of several indexes; one by one, each record is looked up instead.
  among: (column, source, shape, form) =>
    form === 'walk'
      ? finds(column, source, shape)
      : sql`${exact(column, shape)} IN (SELECT ${source.selected} FROM ${source.source} WHERE ${source.where})`,
  finds,
  joinsBranches: false,
  correlates: true,
  unindexed: (column) => sql`+${column}`,
  costs: { read: 0.06, walk: 0.9, scan: 0.4, gather: 0.7 },
  turnsOrder: true,
  catalogue: (schemas) => {
    const tables = sql`t.type = 'table' AND t.schema IN ('main', ${schemas})`
    return sql`SELECT t.schema AS "schema", t.schema = 'main' AS "own", t.name AS "table", i.name AS "column", NULL AS "rows"
FROM pragma_table_list t, pragma_index_list(t.name, t.schema) l, pragma_index_xinfo(l.name, t.schema) i
WHERE ${tables} AND l.partial = 0 AND i.seqno = 0 AND i.coll = 'BINARY'
UNION SELECT t.schema, t.schema = 'main', t.name, c.name, NULL FROM pragma_table_list t, pragma_table_info(t.name, t.schema) c
WHERE ${tables} AND c.pk = 1 AND upper(c.type) = 'INTEGER'
UNION SELECT t.schema, t.schema = 'main', t.name, '', NULL FROM pragma_table_list t WHERE ${tables} AND t.wr = 0`
  },
  rows: (table) => sql`SELECT max(rowid) AS "rows" FROM ${table}`,
  limit: (count, skipped) => limit(count ?? sql`-1`, skipped),
  order,
  jsonArray: jsonArray('json_array'),
  jsonList: jsonList(sql`json_group_array(json(_j))`),
  listColumn: (list) => list,
  readList,
  instant,
  edge: (moment, edge) => moment.toISOString().replace('Z', edge === 'last' ? '~' : ''),
  selectNumber: () => sql`SELECT NULL`,
  createSchema: (schema) => `ATTACH ':memory:' AS ${schema}`,
  indexed: (column, shape) => (isText(shape) ? `${column} COLLATE BINARY` : column),
} satisfies Dialect)

function finds(value: Fragment, { selected, source, where }: Subquery, shape: Shape): Fragment {
  return exists(sql`SELECT 1 FROM ${source} WHERE ${selected} = ${exact(value, shape)} AND ${where}`)
}

/**
 * The plus keeps SQLite from making a join of it: from 3.51.0 on, to 3.51.2 at least, an OFFSET then counts a record as
 * often as something is found for it.
 */
function exists(query: Fragment): Fragment {
  return sql`+EXISTS (${query})`
}
