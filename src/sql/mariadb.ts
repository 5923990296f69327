import { type FieldData, type FieldType, type Shape, type Value } from '../model/index.js'
import type { Dialect } from './dialect.js'
import { type Fragment, raw, sql } from './fragment.js'

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

/** The items of a list, as a table `alias` with a column v. */
const items = (list: Fragment, alias: string): Fragment =>
  sql`JSON_TABLE(${list}, '$[*]' COLUMNS (v LONGTEXT PATH '$')) AS ${raw(alias)}`

/** Items of both kinds compare by their text in JSON. */
const itemBytes = (item: Fragment): Fragment => bytes(sql`CAST(${item} AS CHAR)`)

/** MariaDB 10.6 and later, and MySQL 8. */
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
  itemOf: (item, list) =>
    sql`EXISTS (SELECT 1 FROM ${items(list, 'i')} WHERE ${bytes(raw('i.v'))} = ${itemBytes(item)})`,
  overlaps: (left, right) =>
    sql`EXISTS (SELECT 1 FROM ${items(left, 'l')} JOIN ${items(right, 'm')} ON ${bytes(raw('l.v'))} = ${bytes(raw('m.v'))})`,
  includesAll: (left, right) =>
    sql`(${left} IS NOT NULL AND ${right} IS NOT NULL AND NOT EXISTS (SELECT 1 FROM ${items(right, 'm')} WHERE ${bytes(raw('m.v'))} NOT IN (SELECT ${bytes(raw('l.v'))} FROM ${items(left, 'l')})))`,
  startsWith: (text, prefix) => sql`${bytes(sql`LEFT(${text}, CHAR_LENGTH(${prefix}))`)} = ${bytes(prefix)}`,
  deleteFrom: (table, alias) => sql`DELETE ${raw(alias)} FROM ${table} AS ${raw(alias)}`,
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
  // Only a text of limited length can be a key.
  if (field.type === 'text') return field.key || field.references ? 'VARCHAR(255)' : 'LONGTEXT'
  return TYPES[field.type]
}
