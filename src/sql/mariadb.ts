import { type FieldData, type FieldType, type Shape, type Value } from '../model/index.js'
import type { Dialect } from './dialect.js'
import { type Fragment, sql } from './fragment.js'

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
  fromNothing: ' FROM DUAL',
  identifier: (name) => `\`${name.replaceAll('`', '``')}\``,
  placeholder: (_, { type, scale }) => {
    if (type === 'integer' || type === 'bigInteger') return 'CAST(? AS SIGNED)'
    if (type === 'decimal') return `CAST(? AS DECIMAL(18, ${scale}))`
    return type === 'timestamp' ? 'CAST(? AS DATETIME(3))' : '?'
  },
  // Numbers beyond 2^53 and moments would depend on how the pool was set up; text does not.
  selected: (column, { type }) =>
    ['bigInteger', 'decimal', 'timestamp', 'list'].includes(type) ? sql`CAST(${column} AS CHAR)` : column,
  equal,
  same: (left, right, shape) =>
    isText(shape) || shape.type === 'list' ? sql`${bytes(left)} <=> ${bytes(right)}` : sql`${left} <=> ${right}`,
  among: (column, { selected, source, where }, shape) =>
    sql`EXISTS (SELECT 1 FROM ${source} WHERE ${equal(selected, column, shape)} AND ${where})`,
  itemOf: (item, list, shape) => sql`JSON_CONTAINS(${safeList(list)}, ${asJson(item, shape)})`,
  overlaps: (left, right) => sql`JSON_OVERLAPS(${safeList(left)}, ${safeList(right)})`,
  includesAll: (left, right) =>
    sql`(${left} IS NOT NULL AND ${right} IS NOT NULL AND JSON_CONTAINS(${safeList(left)}, ${safeList(right)}))`,
  startsWith: (text, prefix) => sql`${bytes(sql`LEFT(${text}, CHAR_LENGTH(${prefix}))`)} = ${bytes(prefix)}`,
  // LIMIT takes a bare placeholder only.
  limit: (count) =>
    sql` LIMIT ${{ pieces: count.pieces.map((each) => (typeof each === 'string' ? each : { ...each, shape: BARE })) }}`,
  toDriver: ({ type }, value) => {
    if (type === 'integer' || type === 'bigInteger') return String(value)
    if (type === 'boolean') return value ? 1 : 0
    if (type === 'timestamp') return (value as Date).toISOString().replace('T', ' ').replace('Z', '')
    return type === 'list' ? JSON.stringify(value) : value
  },
  fromDriver: ({ type }, value) => {
    switch (type) {
      case 'integer':
        return Number(value)
      case 'bigInteger':
        return BigInt(value as string)
      case 'boolean':
        return Number(value) === 1
      case 'timestamp':
        return new Date(`${(value as string).replace(' ', 'T')}Z`)
      case 'list':
        return JSON.parse(value as string) as Value
      default:
        return value
    }
  },
  columnType: (field) => typeOf(field) + (field.generated ? ' AUTO_INCREMENT' : ''),
} satisfies Dialect)

/** A count that is not cast. */
const BARE: Shape = { type: 'text' }

function typeOf(field: FieldData): string {
  if (field.type === 'decimal') return `DECIMAL(18, ${field.scale})`
  // Only a text of limited length can be a key, and 'a' and 'A' are two keys.
  const key = 'VARCHAR(255) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin'
  if (field.type === 'text') return field.key || field.references ? key : 'LONGTEXT'
  return TYPES[field.type]
}
