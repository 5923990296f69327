import { decimalFrom, type FieldType, type Shape, unitsOf, type Value } from '../model/index.js'
import type { Dialect } from './dialect.js'
import { type Fragment, sql } from './fragment.js'

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

const isText = ({ type }: Shape): boolean => type === 'text' || type === 'choice'

/** A column may have been declared to ignore case; asked for by name, the exact order is used. */
const exact = (value: Fragment, shape: Shape): Fragment => (isText(shape) ? sql`${value} COLLATE BINARY` : value)

const items = (list: Fragment): Fragment => sql`SELECT value FROM json_each(${list})`

/** SQLite 3.38 and later. */
export const sqlite: Dialect = Object.freeze({
  name: 'sqlite',
  numbered: false,
  returning: true,
  fromNothing: '',
  identifier: (name) => `"${name.replaceAll('"', '""')}"`,
  placeholder: () => '?',
  selected: (column) => column,
  equal: (left, right, shape) => sql`${left} = ${exact(right, shape)}`,
  same: (left, right, shape) => sql`${left} IS ${exact(right, shape)}`,
  among: (column, { selected, source, where }, shape) =>
    sql`${exact(column, shape)} IN (SELECT ${selected} FROM ${source} WHERE ${where})`,
  itemOf: (item, list, shape) => sql`${exact(item, shape)} IN (${items(list)})`,
  overlaps: (left, right) => sql`EXISTS (SELECT 1 FROM json_each(${left}) AS _l WHERE _l.value IN (${items(right)}))`,
  includesAll: (left, right) =>
    sql`(${left} IS NOT NULL AND ${right} IS NOT NULL AND NOT EXISTS (SELECT 1 FROM json_each(${right}) AS _m WHERE _m.value NOT IN (${items(left)})))`,
  startsWith: (text, prefix) => sql`substr(${text}, 1, length(${prefix})) = ${prefix} COLLATE BINARY`,
  limit: (count) => sql` LIMIT ${count}`,
  toDriver,
  fromDriver: (shape, value) => {
    switch (shape.type) {
      case 'integer':
        return Number(value)
      case 'bigInteger':
        return BigInt(value as bigint)
      case 'decimal':
        return decimalFrom(BigInt(value as bigint), shape.scale ?? 1)
      case 'boolean':
        return Number(value) === 1
      case 'timestamp':
        return new Date(value as string)
      case 'list':
        return JSON.parse(value as string) as unknown
      default:
        return value
    }
  },
  // Only INTEGER PRIMARY KEY numbers itself; `createTables` adds the rest.
  columnType: (field) => TYPES[field.type],
} satisfies Dialect)

function toDriver({ type }: Shape, value: Value): unknown {
  switch (type) {
    case 'integer':
      // A number would travel as floating point.
      return BigInt(value as number)
    case 'decimal':
      return unitsOf(value as string)
    case 'boolean':
      return value ? 1n : 0n
    case 'timestamp':
      return (value as Date).toISOString()
    case 'list':
      return JSON.stringify(value)
    default:
      return value
  }
}
