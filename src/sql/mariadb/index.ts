import type { Form } from '../../guard/index.js'
import { LIMITS, type Shape } from '../../model/index.js'
import { type Comparisons, signed } from '../compare.js'
import type { Dialect, Subquery } from '../dialect.js'
import { type Fragment, isSlot, type Need, raw, sql, withSlots } from '../fragment.js'
import { jsonArray, order, parsed } from '../json.js'
import { limit } from '../limit.js'
import { types, written } from './types.js'

const isText = ({ type }: Shape): boolean => type === 'text' || type === 'choice' || type === 'uuid'

/** The bytes of a text, whatever the character set of the column. */
const bytes = (text: Fragment): Fragment => sql`BINARY CONVERT(${text} USING utf8mb4)`

/**
 * The usual collations hold that 'a' = 'A' and 'a' = 'a '. The first comparison uses the index, the second is exact.
 */
const equal = (left: Fragment, right: Fragment, shape: Shape): Fragment =>
  isText(shape) ? sql`(${left} = ${right} AND ${bytes(left)} = ${bytes(right)})` : sql`${left} = ${right}`

const isNumber = ({ type }: Shape): boolean => type === 'integer' || type === 'bigInteger'

/**
 * MariaDB keeps what a subquery came to for the values around it, and takes two values for one where the collation of
 * their columns does: 'a' then gets the answer of 'A', whatever the subquery compares. A variable in a HAVING of its own
 * keeps it from that, and from rewriting the subquery as one that it keeps.
 */
const UNKEPT = sql` HAVING COALESCE(@pachter, 1) IS NOT NULL`

const existsExactly = (query: Fragment): Fragment => sql`EXISTS (${query}${UNKEPT})`

/** The items of a list as rows: what JSON writes in several ways is then one text. */
const items = (list: Fragment, shape: Shape, alias: string): Fragment =>
  sql`JSON_TABLE(${list}, '$[*]' COLUMNS (v ${raw(isNumber(shape) ? 'BIGINT' : 'LONGTEXT CHARACTER SET utf8mb4')} PATH '$')) AS ${raw(alias)}`

const sameItem = (left: Fragment, right: Fragment, shape: Shape): Fragment =>
  isNumber(shape) ? sql`${left} = ${right}` : sql`${bytes(left)} = ${bytes(right)}`

/** Errors of InnoDB by number: deadlocks, waiting too long, and a record that changed meanwhile. */
const BUSY: ReadonlySet<unknown> = new Set([1205, 1213, 1020])

/** A foreign key; or what a trigger signals against what is written. */
const CONSTRAINT: ReadonlySet<unknown> = new Set([1216, 1217, 1451, 1452, 1557, 1644, 1761, 1762])

/** A value that its column or a check does not take, or that is not there where one has to be. */
const MISFIT: ReadonlySet<unknown> = new Set([1048, 1264, 1292, 1364, 1366, 1406, 3819, 4025])

/**
 * In an UPDATE, MariaDB evaluates lists of rows that are not there, and stops at what is no JSON; a missing list
 * includes nothing.
 */
const safeList = (list: Fragment): Fragment => sql`IF(JSON_VALID(${list}), ${list}, '[]')`

const instant = (moment: Fragment): Fragment =>
  sql`(${moment} - INTERVAL MOD(MICROSECOND(${moment}), 1000) MICROSECOND)`

const itemShape = ({ item = 'text' }: Shape): Shape => ({ type: item })

const comparisons: Comparisons = {
  ...signed({ equal, instant }),
  startsWith: ({ text }, prefix) =>
    sql`${bytes(sql`LEFT(${text}, CHAR_LENGTH(${prefix.text}))`)} = ${bytes(prefix.text)}`,
  in: ({ text, shape }, list) =>
    // Through a list that is a value, and numbers, the item's own index serves.
    isSlot(list.text) && isNumber(shape)
      ? sql`${text} IN (SELECT _v.v FROM ${items(list.text, shape, '_v')})`
      : existsExactly(
          sql`SELECT 1 FROM ${items(safeList(list.text), shape, '_v')} WHERE ${sameItem(raw('_v.v'), text, shape)}`,
        ),
  overlaps: (left, right) => {
    const item = itemShape(right.shape)
    return existsExactly(
      sql`SELECT 1 FROM ${items(safeList(left.text), item, '_l')}, ${items(safeList(right.text), item, '_m')} WHERE ${sameItem(raw('_l.v'), raw('_m.v'), item)}`,
    )
  },
  includesAll: (left, right) => {
    const item = itemShape(right.shape)
    const isThere = existsExactly(
      sql`SELECT 1 FROM ${items(safeList(left.text), item, '_l')} WHERE ${sameItem(raw('_l.v'), raw('_m.v'), item)}`,
    )
    const lacksOne = existsExactly(sql`SELECT 1 FROM ${items(safeList(right.text), item, '_m')} WHERE NOT ${isThere}`)
    return sql`(${left.text} IS NOT NULL AND ${right.text} IS NOT NULL AND NOT ${lacksOne})`
  },
}

/** MariaDB 10.9 and later. Text columns have to be utf8mb4. */
export const mariadb: Dialect = Object.freeze({
  name: 'mariadb',
  numbered: false,
  returning: false,
  aliasReturned: false,
  problem: ({ errno }) => {
    if (errno === 1062) return 'duplicate'
    if (BUSY.has(errno)) return 'busy'
    if (errno === 1317) return 'cancelled'
    if (MISFIT.has(errno)) return 'misfit'
    // The server counts from 1000 on; Node's own are below zero.
    if (!(Number(errno) > 0)) return 'unanswered'
    return CONSTRAINT.has(errno) ? 'constraint' : undefined
  },
  failsWhole: false,
  // Only at this level do the subqueries of a write see the latest, and keep it so.
  begin: ['SET TRANSACTION ISOLATION LEVEL REPEATABLE READ', 'START TRANSACTION'],
  locks: { write: ' FOR UPDATE', refer: ' LOCK IN SHARE MODE' },
  fromNothing: ' FROM DUAL',
  identifier: (name) => `\`${name.replaceAll('`', '``')}\``,
  types,
  comparisons,
  equal,
  same: (left, right, shape) =>
    isText(shape) || shape.type === 'list' ? sql`${bytes(left)} <=> ${bytes(right)}` : sql`${left} <=> ${right}`,
  among: (column, source, shape, form) => {
    if (form === 'walk') return finds(column, source, shape, 'walk')
    const { selected, source: from, where } = source
    // By its bytes as well: what the collation holds to be equal is found through its index, and looked at exactly.
    const by = (text: Fragment) => (isText(shape) ? sql`${text}, ${bytes(text)}` : text)
    return sql`(${by(column)}) IN (SELECT ${by(selected)} FROM ${from} WHERE ${where})`
  },
  finds,
  joinsBranches: true,
  costs: { read: 0.2, walk: 5, scan: 0.5, gather: 2 },
  turnsOrder: false,
  catalogue: (
    schemas,
  ) => sql`SELECT s.TABLE_SCHEMA AS "schema", s.TABLE_SCHEMA = DATABASE() AS "own", s.TABLE_NAME AS "table", s.COLUMN_NAME AS "column", t.TABLE_ROWS AS "rows"
FROM information_schema.STATISTICS s
JOIN information_schema.TABLES t ON t.TABLE_SCHEMA = s.TABLE_SCHEMA AND t.TABLE_NAME = s.TABLE_NAME
WHERE s.TABLE_SCHEMA IN (DATABASE(), ${schemas}) AND s.SEQ_IN_INDEX = 1 AND s.INDEX_TYPE = 'BTREE'`,
  limit: (count, skipped) => limit(bare(count ?? sql`18446744073709551615`), skipped && bare(skipped)),
  order,
  jsonArray: jsonArray('JSON_ARRAY'),
  // A subquery in FROM cannot see the record around it; the aggregate sorts and limits itself.
  jsonList: ({ each, source, where, order: sorted, limit: most }) =>
    sql`(SELECT JSON_ARRAYAGG(${each} ORDER BY ${sorted}${most ? sql` LIMIT ${most}` : sql``}) FROM ${source} WHERE ${where}${UNKEPT})`,
  // As JSON, the driver would parse what was cut off, where no error can be caught.
  listColumn: (list) => sql`CAST(${list} AS CHAR)`,
  apart: (needs) => `SET STATEMENT ${[...needs].map((need) => SETTINGS[need]).join(', ')} FOR `,
  correlates: false,
  readList: (json) => {
    if (typeof json === 'string' && isCut(json)) return { records: [], whole: false }
    const records = parsed(json)
    // A record longer than a packet is none.
    return { records, whole: records.every(Array.isArray) }
  },
  instant,
  edge: (moment, edge) => written(moment) + (edge === 'last' ? '999' : ''),
  // Beyond `max_sort_length` bytes it holds all texts to be equal; so many characters are within, in any collation.
  beginning: (text) => sql`LEFT(${text}, 100)`,
  traits: (
    schemas,
  ) => sql`SELECT c.TABLE_SCHEMA AS "schema", c.TABLE_SCHEMA = DATABASE() AS "own", c.TABLE_NAME AS "table", c.COLUMN_NAME AS "column", v.trait AS "trait", c.CHARACTER_MAXIMUM_LENGTH AS "size"
FROM information_schema.COLUMNS c
JOIN information_schema.TABLES t ON t.TABLE_SCHEMA = c.TABLE_SCHEMA AND t.TABLE_NAME = c.TABLE_NAME
LEFT JOIN information_schema.ENGINES e ON e.ENGINE = t.ENGINE
JOIN (SELECT 'words' AS trait UNION ALL SELECT 'other' UNION ALL SELECT 'long' UNION ALL SELECT 'fine' UNION ALL SELECT 'lax' UNION ALL SELECT 'short' UNION ALL SELECT 'padded' UNION ALL SELECT 'zoned' UNION ALL SELECT 'lasting') AS v ON CASE v.trait
WHEN 'words' THEN c.DATA_TYPE = 'enum'
WHEN 'other' THEN c.DATA_TYPE <> 'enum' AND c.COLLATION_NAME NOT LIKE '%\\_bin' AND c.COLLATION_NAME <> (
  SELECT COLLATION_NAME FROM information_schema.COLUMNS
  WHERE TABLE_SCHEMA IN (DATABASE(), ${schemas}) AND COLLATION_NAME NOT LIKE '%\\_bin'
  GROUP BY COLLATION_NAME ORDER BY count(*) DESC, COLLATION_NAME LIMIT 1)
WHEN 'lax' THEN @@sql_mode NOT REGEXP 'STRICT_(ALL|TRANS)_TABLES'
WHEN 'zoned' THEN c.DATA_TYPE = 'timestamp'
  AND IF(@@time_zone = 'SYSTEM', @@system_time_zone, @@time_zone) NOT IN ('UTC', '+00:00')
WHEN 'lasting' THEN t.ENGINE IS NOT NULL AND COALESCE(e.TRANSACTIONS, 'NO') <> 'YES'
WHEN 'short' THEN c.DATA_TYPE IN ('varchar', 'char')
WHEN 'padded' THEN c.DATA_TYPE = 'char'
WHEN 'long' THEN c.CHARACTER_OCTET_LENGTH > 1020 AND c.DATETIME_PRECISION IS NULL
ELSE c.DATETIME_PRECISION > IF(c.DATA_TYPE = 'time', 0, 3) END
WHERE c.TABLE_SCHEMA IN (DATABASE(), ${schemas})`,
  // Words of a list are sorted by their place in it, and compared as texts.
  readable: (column, trait) => {
    if (trait === 'zoned')
      return sql`(TIMESTAMP'1970-01-01 00:00:00.000000' + INTERVAL UNIX_TIMESTAMP(${column}) SECOND)`
    if (trait === 'fine') return sql`SEC_TO_TIME(FLOOR(TIME_TO_SEC(${column})))`
    // In an order of which there is one, so that any two can be compared.
    if (trait === 'words' || trait === 'textual') return sql`(CAST(${column} AS CHAR) COLLATE utf8mb4_nopad_bin)`
    return trait === 'other' ? sql`(CONVERT(${column} USING utf8mb4) COLLATE utf8mb4_nopad_bin)` : undefined
  },
  selectNumber: () => sql`SELECT NULL`,
  createSchema: (schema) => `CREATE DATABASE IF NOT EXISTS ${schema} CHARACTER SET utf8mb4`,
  indexed: (column, _, isLong) => (isLong ? `${column}(${INDEXED})` : column),
} satisfies Dialect)

/** So many characters, or bytes, of a long value are in an index on it. */
const INDEXED = 191

const SETTINGS: Readonly<Record<Need['need'], string>> = {
  // The aggregate cuts off at this length, in silence. A list inside another is no longer than that one.
  lists: `group_concat_max_len = ${LIMITS.relatedBytes}`,
  // A chain ends after so many steps, in silence.
  chains: 'max_recursive_iterations = 4294967295',
  // What is cut to its column's length was not what the rules looked at.
  strict: `sql_mode = CONCAT(@@sql_mode, ',STRICT_ALL_TABLES')`,
  utc: `time_zone = '+00:00'`,
}

/** Cutting off leaves whole characters, of up to four bytes, and adds a bracket or two. */
const isCut = (list: string): boolean =>
  list.length * 3 > LIMITS.relatedBytes - 8 && new TextEncoder().encode(list).length > LIMITS.relatedBytes - 8

/** LIMIT takes a placeholder alone, without a cast. */
function bare(fragment: Fragment): Fragment {
  return withSlots(fragment, (each) => ({ ...each, shape: { type: 'text' } }))
}

/**
 * A null-safe comparison keeps the optimizer from computing the whole subquery first. It would also find a missing value
 * by a missing one, which is none.
 */
function finds(value: Fragment, { selected, source, where, looksOut }: Subquery, shape: Shape, form: Form): Fragment {
  const matches = form === 'walk' ? sql`${selected} <=> ${value} AND ${value} IS NOT NULL` : sql`${selected} = ${value}`
  const exactly = isText(shape) ? sql`${matches} AND ${bytes(selected)} = ${bytes(value)}` : matches
  const query = sql`SELECT 1 FROM ${source} WHERE ${exactly} AND ${where}`
  return looksOut || isText(shape) ? existsExactly(query) : sql`EXISTS (${query})`
}
