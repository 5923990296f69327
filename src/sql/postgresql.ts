import { decimalFrom, type FieldType, type Shape, unitsOf } from '../model/index.js'
import { type Dialect, digits, type Form, type Subquery } from './dialect.js'
import { type Fragment, raw, sql } from './fragment.js'
import { jsonArray, jsonList, order, readList } from './json.js'
import { limit } from './limit.js'

const TYPES: Readonly<Record<Exclude<FieldType, 'list' | 'decimal'>, string>> = {
  text: 'text',
  integer: 'bigint',
  bigInteger: 'bigint',
  boolean: 'boolean',
  timestamp: 'timestamptz',
  choice: 'text',
}

function typeOf({ type, item = 'text', scale }: Shape): string {
  if (type === 'list') return `${TYPES[item]}[]`
  return type === 'decimal' ? `numeric(18, ${digits(scale)})` : TYPES[type]
}

/** PostgreSQL 13 and later. */
export const postgresql: Dialect = Object.freeze({
  name: 'postgresql',
  numbered: true,
  returning: true,
  aliasReturned: true,
  problem: ({ code }) => {
    if (code === '23505') return 'duplicate'
    if (['40001', '40P01', '55P03'].includes(String(code))) return 'busy'
    return /^(?:23|22001|22003)/.test(String(code)) ? 'constraint' : undefined
  },
  failsWhole: true,
  // A statement sees what was committed before it began, also after a lock: later levels would see what was before.
  begin: ['BEGIN ISOLATION LEVEL READ COMMITTED'],
  locks: { write: ' FOR UPDATE', refer: ' FOR KEY SHARE' },
  fromNothing: '',
  identifier: (name) => `"${name.replaceAll('"', '""')}"`,
  placeholder: (mark, shape) => `${mark}::${typeOf(shape)}`,
  selected: (column) => column,
  equal: (left, right) => sql`${left} = ${right}`,
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
  costs: { walk: 2, scan: 0.2, gather: 0.9 },
  catalogue: `SELECT t.relname AS "table", a.attname AS "column", CASE WHEN t.reltuples < 0 THEN pg_relation_size(t.oid) / 100 ELSE t.reltuples END::float8 AS "rows"
FROM pg_index i JOIN pg_class t ON t.oid = i.indrelid
JOIN pg_attribute a ON a.attrelid = t.oid AND a.attnum = i.indkey[0]
WHERE i.indisvalid AND i.indpred IS NULL AND pg_table_is_visible(t.oid) AND t.relkind IN ('r', 'p')
AND t.relnamespace <> 'pg_catalog'::regnamespace`,
  itemOf: (item, list) => sql`${item} = ANY (${list})`,
  overlaps: (left, right) => sql`${left} && ${right}`,
  includesAll: (left, right) => sql`${left} @> ${right}`,
  startsWith: (text, prefix) => sql`starts_with(${text}, ${prefix})`,
  limit,
  // Only where a value can be missing: an index on the column is in the order that databases take for granted.
  order: (column, descending, optional) =>
    sql`${order(column, descending)}${optional ? (descending ? sql` NULLS LAST` : sql` NULLS FIRST`) : sql``}`,
  inJson: (column, { type }) => {
    if (type === 'timestamp') return iso(column)
    return type === 'bigInteger' || type === 'decimal' ? sql`${column}::text` : column
  },
  jsonArray: jsonArray('json_build_array'),
  jsonList: jsonList(sql`json_agg(_j)::text`),
  listColumn: (list) => list,
  readList,
  fromJson: (shape, value) => postgresql.reader(shape)?.(value) ?? value,
  toDriver: ({ type }, value) => {
    if (type === 'timestamp') return (value as Date).toISOString()
    return type === 'bigInteger' ? String(value) : value
  },
  instant: (moment) => sql`date_trunc('milliseconds', ${moment})`,
  edge: (moment, edge) => moment.toISOString().replace('Z', edge === 'last' ? '999Z' : 'Z'),
  exact: (text) => sql`(${text} COLLATE "C")`,
  traits: `SELECT t.relname AS "table", a.attname AS "column", CASE WHEN c.oid IS NULL THEN 'fine' ELSE 'loose' END AS "trait"
FROM pg_attribute a JOIN pg_class t ON t.oid = a.attrelid
LEFT JOIN pg_collation c ON c.oid = a.attcollation AND NOT c.collisdeterministic
WHERE a.attnum > 0 AND NOT a.attisdropped AND t.relkind IN ('r', 'p', 'v', 'm', 'f') AND pg_table_is_visible(t.oid)
AND (c.oid IS NOT NULL OR (a.atttypid IN ('timestamptz'::regtype, 'timestamp'::regtype) AND (a.atttypmod < 0 OR a.atttypmod > 3)))
AND t.relnamespace <> 'pg_catalog'::regnamespace AND t.relnamespace <> 'information_schema'::regnamespace`,
  nextNumber: (table, column) =>
    raw(`nextval(pg_get_serial_sequence(${literal(postgresql.identifier(table))}, ${literal(column)}))`),
  reader: ({ type, item, scale = 1 }) => {
    // Depending on the driver, a bigint comes as a number, a BigInt or text.
    if (type === 'integer') return Number
    // Drivers make dates of moments, if they were not told otherwise, and leave out what is finer than a millisecond.
    if (type === 'timestamp') return (value) => (value instanceof Date ? value : new Date(value as string))
    if (type === 'bigInteger') return (value) => BigInt(value as string)
    if (type === 'list' && item === 'integer') return (value) => (value as unknown[]).map(Number)
    // A numeric column without a scale of its own leaves zeros out.
    return type === 'decimal' ? (value) => withScale(String(value), scale) : undefined
  },
  numberOn: (table, column) => {
    const [of, number] = [postgresql.identifier(table), postgresql.identifier(column)]
    return `SELECT setval(pg_get_serial_sequence(${literal(of)}, ${literal(column)}), (SELECT max(${number}) FROM ${of}))`
  },
  columnType: (field) => {
    const type = field.type === 'timestamp' ? 'timestamptz(3)' : typeOf(field)
    return type + (field.generated ? ' GENERATED BY DEFAULT AS IDENTITY' : '')
  },
} satisfies Dialect)

/** A moment in UTC to the millisecond, what is finer cut off: JSON would have it in the zone of the session. */
const iso = (column: Fragment): Fragment => sql`to_char(${column} AT TIME ZONE 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS.MS"Z"')`

/** The functions of sequences take names as text. */
const literal = (name: string): string => `'${name.replaceAll("'", "''")}'`

/** OFFSET keeps the planner from computing the whole subquery first, which one record is not worth. */
function finds(value: Fragment, { selected, source, where }: Subquery, form: Form): Fragment {
  return sql`EXISTS (SELECT 1 FROM ${source} WHERE ${selected} = ${value} AND ${where}${form === 'walk' ? sql` OFFSET 0` : sql``})`
}

function withScale(value: string, scale: number): string {
  const [whole = '0', rest = ''] = value.split('.')
  return decimalFrom(unitsOf(`${whole}.${rest.padEnd(scale, '0').slice(0, scale)}`), scale)
}
