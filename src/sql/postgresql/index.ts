import type { Form } from '../../guard/index.js'
import { signed, type TypedFragment } from '../compare.js'
import type { Dialect, Subquery } from '../dialect.js'
import { type Fragment, isSlot, join, sql, textSlot } from '../fragment.js'
import { jsonArray, jsonList, order, readList } from '../json.js'
import { limit } from '../limit.js'
import { traits } from './traits.js'
import { types } from './types.js'

const equal = (left: Fragment, right: Fragment): Fragment => sql`${left} = ${right}`

const instant = (moment: Fragment): Fragment => sql`date_trunc('milliseconds', ${moment})`

const identifier = (name: string): string => `"${name.replaceAll('"', '""')}"`

/** What the server calls an error; those of Node, such as `EPIPE`, are words. */
const SQLSTATE = /^(?=.*\d)[\dA-Z]{5}$/

/** A value that is too long or too large, that is not there where one has to be, or that a check or a numbered column does not take. */
const MISFIT: ReadonlySet<unknown> = new Set(['22001', '22003', '23502', '23514', '428C9'])

/** PostgreSQL 13 and later. */
export const postgresql: Dialect = Object.freeze({
  name: 'postgresql',
  numbered: true,
  returning: true,
  aliasReturned: true,
  problem: ({ code }) => {
    if (code === '23505') return 'duplicate'
    if (['40001', '40P01', '55P03'].includes(String(code))) return 'busy'
    if (code === '57014') return 'cancelled'
    if (MISFIT.has(code)) return 'misfit'
    if (!SQLSTATE.test(String(code))) return 'unanswered'
    // What a trigger raises, it raises against what is written.
    return String(code).startsWith('23') || code === 'P0001' ? 'constraint' : undefined
  },
  failsWhole: true,
  // A statement sees what was committed before it began, also after a lock: later levels would see what was before.
  begin: ['BEGIN ISOLATION LEVEL READ COMMITTED'],
  locks: { write: ' FOR UPDATE', refer: ' FOR KEY SHARE' },
  fromNothing: '',
  identifier,
  types,
  comparisons: {
    ...numbersAlone(signed({ equal, instant })),
    startsWith: ({ text }, prefix) => sql`starts_with(${text}, ${prefix.text})`,
    in: ({ text }, list) => sql`${text} = ANY (${list.text})`,
    overlaps: (left, right) => sql`${left.text} && ${right.text}`,
    includesAll: (left, right) => sql`${left.text} @> ${right.text}`,
  },
  equal,
  same: (left, right) => sql`${left} IS NOT DISTINCT FROM ${right}`,
  among: (column, source, _, form) => {
    const { selected, source: from, where } = source
    if (form === 'walk') return finds(column, source, form)
    const keys = sql`SELECT ${selected} FROM ${from} WHERE ${where}`
    // An array of keys, unlike IN, lets the planner combine the indexes of several branches of an OR.
    return form === 'gather' ? sql`${column} = ANY (ARRAY(${keys}))` : sql`${column} IN (${keys})`
  },
  finds: (value, source, _, form) => finds(value, source, form),
  joinsBranches: false,
  correlates: true,
  fence: ' OFFSET 0',
  costs: { read: 0.06, walk: 3, scan: 0.22, gather: 1 },
  turnsOrder: true,
  catalogue: (
    schemas,
  ) => sql`SELECT n.nspname AS "schema", pg_table_is_visible(t.oid) AS "own", t.relname AS "table", a.attname AS "column", CASE WHEN t.reltuples < 0 THEN pg_relation_size(t.oid) / 100 ELSE t.reltuples END::float8 AS "rows"
FROM pg_index i JOIN pg_class t ON t.oid = i.indrelid JOIN pg_namespace n ON n.oid = t.relnamespace
JOIN pg_class c ON c.oid = i.indexrelid JOIN pg_am m ON m.oid = c.relam AND m.amname = 'btree'
JOIN pg_attribute a ON a.attrelid = t.oid AND a.attnum = i.indkey[0]
WHERE i.indisvalid AND i.indpred IS NULL AND (pg_table_is_visible(t.oid) OR n.nspname IN (${schemas}))
AND t.relkind IN ('r', 'p') AND n.nspname <> 'pg_catalog'`,
  limit,
  // Only where a value can be missing: an index on the column is in the order that databases take for granted.
  order: (column, descending, optional) =>
    sql`${order(column, descending)}${optional ? (descending ? sql` NULLS LAST` : sql` NULLS FIRST`) : sql``}`,
  jsonArray: jsonArray('json_build_array'),
  jsonList: jsonList(sql`json_agg(_j)::text`),
  listColumn: (list) => list,
  readList,
  instant,
  edge: (moment, edge) => moment.toISOString().replace('Z', edge === 'last' ? '999Z' : 'Z'),
  exact: (text) => sql`(${text} COLLATE "C")`,
  traits,
  readable: (column, trait) => {
    if (trait === 'fine') return sql`date_trunc('second', ${column}::time)::time`
    if (trait === 'padded' || trait === 'textual' || trait === 'words') return sql`CAST(${column} AS text)`
    if (trait === 'texts') return sql`CAST(${column} AS text[])`
    if (trait === 'numbers') return sql`CAST(${column} AS bigint[])`
    // Right of either type, for statements that are written before that is known.
    if (trait === 'zoneless')
      return sql`(CASE WHEN pg_typeof(${column}) = 'timestamp'::regtype THEN ${column}::timestamp AT TIME ZONE 'UTC' ELSE ${column}::timestamptz END)`
    return undefined
  },
  writable: (value, trait, { table, column, named }) => {
    if (trait === 'zoneless') return sql`(${value} AT TIME ZONE 'UTC')`
    // The table itself knows the type of its column.
    return trait === 'textual' || trait === 'words'
      ? sql`(jsonb_populate_record(NULL::${table}, jsonb_build_object(${named}, ${value}))).${column}`
      : undefined
  },
  searchable: (value, trait, { table, column }) => {
    // What is none of its words, none is equal to.
    if (trait === 'words')
      return sql`(SELECT _e FROM unnest(enum_range((NULL::${table}).${column})) AS _e WHERE _e::text = ${value})`
    return trait === 'padded' ? sql`${value}::bpchar` : undefined
  },
  // Some columns take no number but what they hand out themselves, unless it is said so.
  selectNumber: (table, column) =>
    sql`OVERRIDING SYSTEM VALUE SELECT nextval(pg_get_serial_sequence(${textSlot(table)}, ${textSlot(column)}))`,
  createSchema: (schema) => `CREATE SCHEMA IF NOT EXISTS ${schema}`,
  numberOn: (table, column) =>
    `SELECT setval(pg_get_serial_sequence(${literal(table)}, ${literal(column)}), (SELECT max(${identifier(column)}) FROM ${table}))`,
} satisfies Dialect)

/** What is no number equals itself here, and is above all others; as a value, there is none. */
function numbersAlone<T extends Readonly<Record<string, Compare>>>(comparisons: T): T {
  const isNumber = ({ text, shape }: TypedFragment) =>
    shape.type === 'float' && !isSlot(text) ? [sql`${text} <> 'NaN'`] : []
  const alone =
    (compare: Compare): Compare =>
    (left, right) => {
      const sure = [...isNumber(left), ...isNumber(right)]
      return sure.length === 0 ? compare(left, right) : sql`(${join([compare(left, right), ...sure], ' AND ')})`
    }
  return Object.fromEntries(Object.entries(comparisons).map(([how, compare]) => [how, alone(compare)])) as T
}

type Compare = (left: TypedFragment, right: TypedFragment) => Fragment

/** The functions of sequences take names as text. */
const literal = (name: string): string => `'${name.replaceAll("'", "''")}'`

/** OFFSET keeps the planner from computing the whole subquery first, which one record is not worth. */
function finds(value: Fragment, { selected, source, where }: Subquery, form: Form): Fragment {
  return sql`EXISTS (SELECT 1 FROM ${source} WHERE ${selected} = ${value} AND ${where}${form === 'walk' ? sql` OFFSET 0` : sql``})`
}
