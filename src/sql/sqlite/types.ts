import { decimalFrom, unitsOf } from '../../model/index.js'
import { type Fragment, sql } from '../fragment.js'
import { bytesRead, listRead, listWritten, type StoredTypes } from '../stored.js'

/** A number of the driver's would lose digits beyond 2^53. */
const asText = (column: Fragment): Fragment => sql`CAST(${column} AS TEXT)`

/** Some functions make something of nothing. */
const unlessMissing = (column: Fragment, made: Fragment): Fragment => sql`iif(${column} IS NULL, NULL, ${made})`

/**
 * How SQLite stores each type: timestamps as ISO text, decimals in their smallest unit, lists as JSON. Only an INTEGER
 * PRIMARY KEY numbers itself; `createTables` adds the rest.
 */
export const types: StoredTypes = {
  text: { column: () => 'TEXT' },
  integer: { column: () => 'INTEGER' },
  bigInteger: { column: () => 'INTEGER', selected: asText, fromDriver: (value: string) => BigInt(value) },
  decimal: {
    column: () => 'INTEGER',
    selected: asText,
    toDriver: unitsOf,
    fromDriver: (value: string, { scale = 1 }) => decimalFrom(BigInt(value), scale),
  },
  float: {
    column: () => 'REAL',
    // With as many digits as it takes to read the same number again.
    inJson: (column) => unlessMissing(column, sql`printf('%!.17g', ${column})`),
    fromDriver: Number,
  },
  boolean: { column: () => 'INTEGER', toDriver: (value) => (value ? 1 : 0), fromDriver: (value) => value === 1 },
  timestamp: {
    column: () => 'TEXT',
    toDriver: (value: Date) => value.toISOString(),
    // What is finer than a millisecond, JavaScript leaves out.
    fromDriver: (value: string) => new Date(value),
  },
  date: { column: () => 'TEXT' },
  time: { column: () => 'TEXT' },
  uuid: { column: () => 'TEXT' },
  choice: { column: () => 'TEXT' },
  list: {
    column: () => 'TEXT',
    toDriver: listWritten,
    fromDriver: listRead,
  },
  bytes: {
    column: () => 'BLOB',
    inJson: (column) => unlessMissing(column, sql`hex(${column})`),
    fromDriver: bytesRead,
  },
  json: {
    column: () => 'TEXT',
    present: (column) => sql`json_type(${column}) <> 'null'`,
    toDriver: (value) => JSON.stringify(value),
    fromDriver: (value: string) => JSON.parse(value) as unknown,
  },
}
