import type { Form } from '../../guard/index.js'
import { signed } from '../compare.js'
import type { Dialect, Subquery } from '../dialect.js'
import { type Fragment, raw, sql } from '../fragment.js'
import { jsonArray, jsonList, order, readList } from '../json.js'
import { limit } from '../limit.js'
import { types } from './types.js'

const equal = (left: Fragment, right: Fragment): Fragment => sql`${left} = ${right}`

const instant = (moment: Fragment): Fragment => sql`date_trunc('milliseconds', ${moment})`

const identifier = (name: string): string => `"${name.replaceAll('"', '""')}"`

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
    return /^(?:23|22001|22003)/.test(String(code)) ? 'constraint' : undefined
  },
  failsWhole: true,
  // A statement sees what was committed before it began, also after a lock: later levels would see what was before.
  begin: ['BEGIN ISOLATION LEVEL READ COMMITTED'],
  locks: { write: ' FOR UPDATE', refer: ' FOR KEY SHARE' },
  fromNothing: '',
  identifier,
  types,
  comparisons: {
    ...signed({ equal, instant }),
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
  fence: ' OFFSET 0',
  costs: { read: 0.06, walk: 3, scan: 0.22, gather: 1 },
  turnsOrder: true,
  catalogue: (
    schemas,
  ) => sql`SELECT n.nspname AS "schema", pg_table_is_visible(t.oid) AS "own", t.relname AS "table", a.attname AS "column", CASE WHEN t.reltuples < 0 THEN pg_relation_size(t.oid) / 100 ELSE t.reltuples END::float8 AS "rows"
FROM pg_index i JOIN pg_class t ON t.oid = i.indrelid JOIN pg_namespace n ON n.oid = t.relnamespace
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
  traits: (
    schemas,
  ) => sql`SELECT n.nspname AS "schema", pg_table_is_visible(t.oid) AS "own", t.relname AS "table", a.attname AS "column", CASE WHEN c.oid IS NULL THEN 'fine' ELSE 'loose' END AS "trait"
FROM pg_attribute a JOIN pg_class t ON t.oid = a.attrelid JOIN pg_namespace n ON n.oid = t.relnamespace
LEFT JOIN pg_collation c ON c.oid = a.attcollation AND NOT c.collisdeterministic
WHERE a.attnum > 0 AND NOT a.attisdropped AND t.relkind IN ('r', 'p', 'v', 'm', 'f')
AND (pg_table_is_visible(t.oid) OR n.nspname IN (${schemas}))
AND (c.oid IS NOT NULL OR (a.atttypid IN ('timestamptz'::regtype, 'timestamp'::regtype) AND (a.atttypmod < 0 OR a.atttypmod > 3)))
AND n.nspname <> 'pg_catalog' AND n.nspname <> 'information_schema'`,
  nextNumber: (table, column) => raw(`nextval(pg_get_serial_sequence(${literal(table)}, ${literal(column)}))`),
  createSchema: (schema) => `CREATE SCHEMA IF NOT EXISTS ${schema}`,
  numberOn: (table, column) =>
    `SELECT setval(pg_get_serial_sequence(${literal(table)}, ${literal(column)}), (SELECT max(${identifier(column)}) FROM ${table}))`,
} satisfies Dialect)

/** The functions of sequences take names as text. */
const literal = (name: string): string => `'${name.replaceAll("'", "''")}'`

/** OFFSET keeps the planner from computing the whole subquery first, which one record is not worth. */
function finds(value: Fragment, { selected, source, where }: Subquery, form: Form): Fragment {
  return sql`EXISTS (SELECT 1 FROM ${source} WHERE ${selected} = ${value} AND ${where}${form === 'walk' ? sql` OFFSET 0` : sql``})`
}
