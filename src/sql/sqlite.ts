import { decimalFrom, type FieldType, type Shape, unitsOf, type Value } from '../model/index.js'
import type { Dialect, Subquery } from './dialect.js'
import { type Fragment, sql } from './fragment.js'
import { jsonArray, jsonList, order, readList } from './json.js'
import { limit } from './limit.js'

/** How values are stored: timestamps as ISO text, decimals in their smallest unit, lists as JSON. */
const TYPES: Readonly<Record<FieldType, string>> = {
  text: 'TEXT',
  integer: 'INTEGER',
  bigInteger: 'INTEGER',
  decimal: 'INTEGER',
  boolean: 'INTEGER',
  timestamp: 'TEXT',
  choice: 'TEXT',
  list: 'TEXT',
}

/** What SQLite calls a key or a unique value that is there already, by number: for `node:sqlite`. */
const DUPLICATE: ReadonlySet<unknown> = new Set([1555, 2067, 2579])

const lowByte = (code: unknown): number | undefined => (typeof code === 'number' ? code & 0xff : undefined)

const isText = ({ type }: Shape): boolean => type === 'text' || type === 'choice'

/** A column may have been declared to ignore case; asked for by name, the exact order is used. */
const exact = (value: Fragment, shape: Shape): Fragment => (isText(shape) ? sql`${value} COLLATE BINARY` : value)

const items = (list: Fragment): Fragment => sql`SELECT value FROM json_each(${list})`

/** SQLite 3.38 and later. */
export const sqlite: Dialect = Object.freeze({
  name: 'sqlite',
  numbered: false,
  returning: true,
  aliasReturned: false,
  problem: ({ code, errcode }) => {
    if (/^SQLITE_CONSTRAINT_(?:PRIMARYKEY|UNIQUE|ROWID)$/.test(String(code)) || DUPLICATE.has(errcode))
      return 'duplicate'
    if (String(code).startsWith('SQLITE_CONSTRAINT') || lowByte(errcode) === 19) return 'constraint'
    return String(code).startsWith('SQLITE_BUSY') || lowByte(errcode) === 5 ? 'busy' : undefined
  },
  failsWhole: false,
  // From its beginning the only one that writes.
  begin: ['BEGIN IMMEDIATE'],
  fromNothing: '',
  identifier: (name) => `"${name.replaceAll('"', '""')}"`,
  placeholder: (mark) => mark,
  // A number of the driver's would lose digits beyond 2^53.
  selected: (column, { type }) => (type === 'bigInteger' || type === 'decimal' ? sql`CAST(${column} AS TEXT)` : column),
  equal: (left, right, shape) => sql`${left} = ${exact(right, shape)}`,
  same: (left, right, shape) => sql`${left} IS ${exact(right, shape)}`,
  // Several of these in an OR make a search of several indexes; one by one, each record is looked up instead.
  among: (column, source, shape, form) =>
    form === 'walk'
      ? finds(column, source, shape)
      : sql`${exact(column, shape)} IN (SELECT ${source.selected} FROM ${source.source} WHERE ${source.where})`,
  finds,
  joinsBranches: false,
  costs: { walk: 0.6, scan: 0.31, gather: 0.7 },
  catalogue: `SELECT t.name AS "table", i.name AS "column", NULL AS "rows"
FROM sqlite_schema t, pragma_index_list(t.name) l, pragma_index_info(l.name) i
WHERE t.type = 'table' AND l.partial = 0 AND i.seqno = 0
UNION SELECT t.name, c.name, NULL FROM sqlite_schema t, pragma_table_info(t.name) c WHERE t.type = 'table' AND c.pk = 1
UNION SELECT t.name, '', NULL FROM pragma_table_list t WHERE t.schema = 'main' AND t.type = 'table' AND t.wr = 0`,
  rows: (table) => sql`SELECT max(rowid) AS "rows" FROM ${table}`,
  itemOf: (item, list, shape) => sql`${exact(item, shape)} IN (${items(list)})`,
  overlaps: (left, right) => exists(sql`SELECT 1 FROM json_each(${left}) AS _l WHERE _l.value IN (${items(right)})`),
  includesAll: (left, right) =>
    sql`(${left} IS NOT NULL AND ${right} IS NOT NULL AND NOT EXISTS (SELECT 1 FROM json_each(${right}) AS _m WHERE _m.value NOT IN (${items(left)})))`,
  startsWith: (text, prefix) => sql`substr(${text}, 1, length(${prefix})) = ${prefix} COLLATE BINARY`,
  limit: (count, skipped) => limit(count ?? sql`-1`, skipped),
  order,
  inJson: (column, shape) => sqlite.selected(column, shape),
  jsonArray: jsonArray('json_array'),
  jsonList: jsonList(sql`json_group_array(json(_j))`),
  listColumn: (list) => list,
  readList,
  fromJson: (shape, value) => sqlite.reader(shape)?.(value) ?? value,
  toDriver,
  // Texts, which sort as the moments do: what is finer stands between the milliseconds and the Z.
  instant: (moment) => sql`substr(${moment}, 1, 23)`,
  edge: (moment, edge) => moment.toISOString().replace('Z', edge === 'last' ? '~' : ''),
  nextNumber: () => sql`NULL`,
  reader: ({ type, scale = 1 }) => {
    switch (type) {
      case 'bigInteger':
        return (value) => BigInt(value as string)
      case 'decimal':
        return (value) => decimalFrom(BigInt(value as string), scale)
      case 'boolean':
        return (value) => value === 1
      case 'timestamp':
        // What is finer than a millisecond, JavaScript leaves out.
        return (value) => new Date(value as string)
      case 'list':
        return (value) => JSON.parse(value as string) as unknown
      default:
        return undefined
    }
  },
  // Only INTEGER PRIMARY KEY numbers itself; `createTables` adds the rest.
  columnType: (field) => TYPES[field.type],
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

function toDriver({ type }: Shape, value: Value): unknown {
  switch (type) {
    case 'decimal':
      return unitsOf(value as string)
    case 'boolean':
      return value ? 1 : 0
    case 'timestamp':
      return (value as Date).toISOString()
    case 'list':
      return JSON.stringify(value)
    default:
      return value
  }
}
