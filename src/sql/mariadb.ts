import { type FieldData, type FieldType, type Shape, type Value } from '../model/index.js'
import type { Dialect, Form, Subquery } from './dialect.js'
import { type Fragment, sql } from './fragment.js'
import { jsonArray, order } from './json.js'
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

const isValue = ({ pieces }: Fragment): boolean => pieces.length === 1 && typeof pieces[0] !== 'string'

/** An item as JSON has it; JSON compares texts exactly. */
const asJson = (item: Fragment, shape: Shape): Fragment =>
  isText(shape) ? sql`JSON_QUOTE(CONVERT(${item} USING utf8mb4))` : sql`CAST(${item} AS CHAR)`

/**
 * In an UPDATE, MariaDB evaluates lists of rows that are not there, and stops at what is no JSON; a missing list
 * includes nothing.
 */
const safeList = (list: Fragment): Fragment => sql`IF(JSON_VALID(${list}), ${list}, '[]')`

/** MariaDB 10.9 and later, and MySQL 8. Text columns have to be utf8mb4. */
export const mariadb: Dialect = Object.freeze({
  name: 'mariadb',
  numbered: false,
  returning: false,
  aliasReturned: false,
  duplicate: ({ errno }) => errno === 1062,
  fromNothing: ' FROM DUAL',
  identifier: (name) => `\`${name.replaceAll('`', '``')}\``,
  placeholder: (mark, { type, scale }) => {
    if (type === 'integer' || type === 'bigInteger') return `CAST(${mark} AS SIGNED)`
    if (type === 'decimal') return `CAST(${mark} AS DECIMAL(18, ${scale}))`
    return type === 'timestamp' ? `CAST(${mark} AS DATETIME(3))` : mark
  },
  // Numbers beyond 2^53 and moments would depend on how the pool was set up; text does not.
  selected: (column, { type }) =>
    ['bigInteger', 'decimal', 'timestamp', 'list'].includes(type) ? sql`CAST(${column} AS CHAR)` : column,
  equal,
  same: (left, right, shape) =>
    isText(shape) || shape.type === 'list' ? sql`${bytes(left)} <=> ${bytes(right)}` : sql`${left} <=> ${right}`,
  among: (column, source, shape, form) =>
    form === 'walk' || isText(shape)
      ? finds(column, source, shape, form)
      : sql`${column} IN (SELECT ${source.selected} FROM ${source.source} WHERE ${source.where})`,
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
    isValue(list) && ['integer', 'bigInteger'].includes(shape.type)
      ? sql`${item} IN (SELECT _v.v FROM JSON_TABLE(${list}, '$[*]' COLUMNS (v BIGINT PATH '$')) AS _v)`
      : sql`JSON_CONTAINS(${safeList(list)}, ${asJson(item, shape)})`,
  overlaps: (left, right) => sql`JSON_OVERLAPS(${safeList(left)}, ${safeList(right)})`,
  includesAll: (left, right) =>
    sql`(${left} IS NOT NULL AND ${right} IS NOT NULL AND JSON_CONTAINS(${safeList(left)}, ${safeList(right)}))`,
  startsWith: (text, prefix) => sql`${bytes(sql`LEFT(${text}, CHAR_LENGTH(${prefix}))`)} = ${bytes(prefix)}`,
  limit: (count, skipped) => limit(bare(count ?? sql`18446744073709551615`), skipped && bare(skipped)),
  order,
  inJson: (column, shape) => mariadb.selected(column, shape),
  jsonArray: jsonArray('JSON_ARRAY'),
  // A subquery in FROM cannot see the record around it; the aggregate sorts and limits itself.
  jsonList: ({ each, source, where, order: sorted, limit: most }) =>
    sql`(SELECT JSON_ARRAYAGG(${each} ORDER BY ${sorted}${most ? sql` LIMIT ${most}` : sql``}) FROM ${source} WHERE ${where})`,
  fromJson: (shape, value) => mariadb.reader(shape)?.(value) ?? value,
  toDriver: ({ type }, value) => {
    if (type === 'integer' || type === 'bigInteger') return String(value)
    if (type === 'boolean') return value ? 1 : 0
    if (type === 'timestamp') return (value as Date).toISOString().replace('T', ' ').replace('Z', '')
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
  columnType: (field) => typeOf(field) + (field.generated ? ' AUTO_INCREMENT' : ''),
} satisfies Dialect)

/** LIMIT takes a placeholder alone, without a cast. */
function bare({ pieces }: Fragment): Fragment {
  return { pieces: pieces.map((each) => (typeof each === 'string' ? each : { ...each, shape: { type: 'text' } })) }
}

/** A null-safe comparison keeps the optimizer from computing the whole subquery first. */
function finds(value: Fragment, { selected, source, where }: Subquery, shape: Shape, form: Form): Fragment {
  const matches = form === 'walk' ? sql`${selected} <=> ${value}` : sql`${selected} = ${value}`
  const exactly = isText(shape) ? sql`${matches} AND ${bytes(selected)} = ${bytes(value)}` : matches
  return sql`EXISTS (SELECT 1 FROM ${source} WHERE ${exactly} AND ${where})`
}

function typeOf(field: FieldData): string {
  if (field.type === 'decimal') return `DECIMAL(18, ${field.scale})`
  // Only a text of limited length can be a key, and 'a' and 'A' are two keys.
  const key = 'VARCHAR(255) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin'
  if (field.type === 'text') return field.key || field.references ? key : 'LONGTEXT'
  return TYPES[field.type]
}
