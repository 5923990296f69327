import { type FieldData, type FieldType, LIMITS, type Shape, type Value } from '../model/index.js'
import { type Dialect, digits, type Form, type Subquery } from './dialect.js'
import { type Fragment, isSlot, raw, sql } from './fragment.js'
import { jsonArray, order, parsed } from './json.js'
import { limit } from './limit.js'

const TYPES: Readonly<Record<Exclude<FieldType, 'decimal' | 'text'>, string>> = {
  integer: 'BIGINT',
  bigInteger: 'BIGINT',
  boolean: 'BOOLEAN',
  timestamp: 'DATETIME(3)',
  choice: 'VARCHAR(255)',
  list: 'LONGTEXT',
}

const isText = ({ type }: Shape): boolean => type === 'text' || type === 'choice'

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

/** A value that a column, a foreign key or a check does not take. */
const CONSTRAINT: ReadonlySet<unknown> = new Set([
  1048, 1216, 1217, 1264, 1364, 1366, 1406, 1451, 1452, 1557, 1761, 1762, 3819, 4025,
])

/**
 * In an UPDATE, MariaDB evaluates lists of rows that are not there, and stops at what is no JSON; a missing list
 * includes nothing.
 */
const safeList = (list: Fragment): Fragment => sql`IF(JSON_VALID(${list}), ${list}, '[]')`

/** MariaDB 10.9 and later. Text columns have to be utf8mb4. */
export const mariadb: Dialect = Object.freeze({
  name: 'mariadb',
  numbered: false,
  returning: false,
  aliasReturned: false,
  problem: ({ errno }) => {
    if (errno === 1062) return 'duplicate'
    if (BUSY.has(errno)) return 'busy'
    return CONSTRAINT.has(errno) ? 'constraint' : undefined
  },
  failsWhole: false,
  // Only at this level do the subqueries of a write see the latest, and keep it so.
  begin: ['SET TRANSACTION ISOLATION LEVEL REPEATABLE READ', 'START TRANSACTION'],
  locks: { write: ' FOR UPDATE', refer: ' LOCK IN SHARE MODE' },
  fromNothing: ' FROM DUAL',
  identifier: (name) => `\`${name.replaceAll('`', '``')}\``,
  placeholder: (mark, { type, scale }) => {
    if (type === 'integer' || type === 'bigInteger') return `CAST(${mark} AS SIGNED)`
    if (type === 'decimal') return `CAST(${mark} AS DECIMAL(18, ${digits(scale)}))`
    return type === 'timestamp' ? `CAST(${mark} AS DATETIME(6))` : mark
  },
  // Numbers beyond 2^53 and moments would depend on how the pool was set up; text does not.
  selected: (column, { type }) =>
    ['bigInteger', 'decimal', 'timestamp', 'list'].includes(type) ? sql`CAST(${column} AS CHAR)` : column,
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
  costs: { walk: 3, scan: 0.6, gather: 3 },
  catalogue: `SELECT s.TABLE_NAME AS "table", s.COLUMN_NAME AS "column", t.TABLE_ROWS AS "rows"
FROM information_schema.STATISTICS s
JOIN information_schema.TABLES t ON t.TABLE_SCHEMA = s.TABLE_SCHEMA AND t.TABLE_NAME = s.TABLE_NAME
WHERE s.TABLE_SCHEMA = DATABASE() AND s.SEQ_IN_INDEX = 1`,
  lasting: `SELECT t.TABLE_NAME AS "table" FROM information_schema.TABLES t
LEFT JOIN information_schema.ENGINES e ON e.ENGINE = t.ENGINE
WHERE t.TABLE_SCHEMA = DATABASE() AND t.TABLE_TYPE = 'BASE TABLE' AND COALESCE(e.TRANSACTIONS, 'NO') <> 'YES'`,
  itemOf: (item, list, shape) =>
    // Through a list that is a value, and numbers, the item's own index serves.
    isSlot(list) && isNumber(shape)
      ? sql`${item} IN (SELECT _v.v FROM ${items(list, shape, '_v')})`
      : existsExactly(
          sql`SELECT 1 FROM ${items(safeList(list), shape, '_v')} WHERE ${sameItem(raw('_v.v'), item, shape)}`,
        ),
  overlaps: (left, right, item) =>
    existsExactly(
      sql`SELECT 1 FROM ${items(safeList(left), item, '_l')}, ${items(safeList(right), item, '_m')} WHERE ${sameItem(raw('_l.v'), raw('_m.v'), item)}`,
    ),
  includesAll: (left, right, item) =>
    sql`(${left} IS NOT NULL AND ${right} IS NOT NULL AND NOT ${existsExactly(
      sql`SELECT 1 FROM ${items(safeList(right), item, '_m')} WHERE NOT ${existsExactly(
        sql`SELECT 1 FROM ${items(safeList(left), item, '_l')} WHERE ${sameItem(raw('_l.v'), raw('_m.v'), item)}`,
      )}`,
    )})`,
  startsWith: (text, prefix) => sql`${bytes(sql`LEFT(${text}, CHAR_LENGTH(${prefix}))`)} = ${bytes(prefix)}`,
  limit: (count, skipped) => limit(bare(count ?? sql`18446744073709551615`), skipped && bare(skipped)),
  order,
  inJson: (column, shape) => mariadb.selected(column, shape),
  jsonArray: jsonArray('JSON_ARRAY'),
  // A subquery in FROM cannot see the record around it; the aggregate sorts and limits itself.
  jsonList: ({ each, source, where, order: sorted, limit: most }) =>
    sql`(SELECT JSON_ARRAYAGG(${each} ORDER BY ${sorted}${most ? sql` LIMIT ${most}` : sql``}) FROM ${source} WHERE ${where}${UNKEPT})`,
  // As JSON, the driver would parse what was cut off, where no error can be caught.
  listColumn: (list) => sql`CAST(${list} AS CHAR)`,
  // The aggregate cuts off at this length, in silence. A list inside another is no longer than that one.
  joining: `SET STATEMENT group_concat_max_len = ${LIMITS.relatedBytes} FOR `,
  readList: (json) => {
    if (typeof json === 'string' && isCut(json)) return { records: [], whole: false }
    const records = parsed(json)
    // A record longer than a packet is none.
    return { records, whole: records.every(Array.isArray) }
  },
  fromJson: (shape, value) => mariadb.reader(shape)?.(value) ?? value,
  toDriver: ({ type }, value) => {
    if (type === 'integer' || type === 'bigInteger') return String(value)
    if (type === 'boolean') return value ? 1 : 0
    if (type === 'timestamp') return written(value as Date)
    return type === 'list' ? JSON.stringify(value) : value
  },
  reader: ({ type }) => {
    switch (type) {
      case 'integer':
        return Number
      case 'bigInteger':
        return (value) => BigInt(value as string)
      case 'boolean':
        return (value) => Number(value) === 1
      case 'timestamp':
        return (value) => new Date(`${(value as string).replace(' ', 'T')}Z`)
      case 'list':
        return (value) => JSON.parse(value as string) as Value
      default:
        return undefined
    }
  },
  instant: (moment) => sql`(${moment} - INTERVAL MOD(MICROSECOND(${moment}), 1000) MICROSECOND)`,
  edge: (moment, edge) => written(moment) + (edge === 'last' ? '999' : ''),
  // Beyond `max_sort_length` bytes it holds all texts to be equal; so many characters are within, in any collation.
  beginning: (text) => sql`LEFT(${text}, 100)`,
  traits: `SELECT TABLE_NAME AS "table", COLUMN_NAME AS "column", IF(DATETIME_PRECISION IS NULL, 'long', 'fine') AS "trait"
FROM information_schema.COLUMNS
WHERE TABLE_SCHEMA = DATABASE() AND (DATETIME_PRECISION > 3 OR CHARACTER_OCTET_LENGTH > 1020)`,
  nextNumber: () => sql`NULL`,
  columnType: (field) => typeOf(field) + (field.generated ? ' AUTO_INCREMENT' : ''),
} satisfies Dialect)

/** Cutting off leaves whole characters, of up to four bytes, and adds a bracket or two. */
const isCut = (list: string): boolean =>
  list.length * 3 > LIMITS.relatedBytes - 8 && new TextEncoder().encode(list).length > LIMITS.relatedBytes - 8

/** LIMIT takes a placeholder alone, without a cast. */
function bare({ pieces }: Fragment): Fragment {
  return { pieces: pieces.map((each) => (typeof each === 'string' ? each : { ...each, shape: { type: 'text' } })) }
}

const written = (moment: Date): string => moment.toISOString().replace('T', ' ').replace('Z', '')

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

function typeOf(field: FieldData): string {
  if (field.type === 'decimal') return `DECIMAL(18, ${field.scale})`
  // Only a text of limited length can be a key, and 'a' and 'A' are two keys.
  const key = 'VARCHAR(255) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin'
  const isKey = field.key || field.references || field.unique
  if (field.type === 'text' || (field.type === 'choice' && isKey)) return isKey ? key : 'LONGTEXT'
  return TYPES[field.type as keyof typeof TYPES]
}
