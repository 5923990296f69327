import { decimalFrom, unitsOf } from '../../model/index.js'
import { type Fragment, join, raw, sql } from '../fragment.js'
import { booleanRead, bytesRead, listRead, listWritten, type StoredTypes } from '../stored.js'

/** A number of the driver's would lose digits beyond 2^53. */
const asText = (column: Fragment): Fragment => sql`CAST(${column} AS TEXT)`

/** Some functions make something of nothing. */
const unlessMissing = (column: Fragment, made: Fragment): Fragment => sql`iif(${column} IS NULL, NULL, ${made})`

/** By what powers of two numbers are brought near, from which size on: these multiply exactly. */
const SCALES = [
  [200, 700],
  [100, 400],
  [-50, 0],
  [-150, -400],
  [-250, -700],
  [-400, -1000],
] as const

/**
 * A number with as many digits as it takes to read the same again, which SQLite gets right only of numbers that are not very
 * large and not very small: others are brought near by a power of two, which is said behind.
 */
function inDigits(column: Fragment): Fragment {
  const half = '1125899906842624.0' // 2 to the 50
  const cases = SCALES.map(([from, power]) => {
    const near = raw(` ${power > 0 ? '/' : '*'} ${half}`.repeat(Math.abs(power) / 50))
    return sql`WHEN abs(${column}) >= ${raw(from < -300 ? '0' : `1e${from}`)} THEN printf('%!.17g ${raw(String(power))}', ${column}${near})`
  })
  return sql`CASE WHEN ${column} = 0 THEN '0 0' ${join(cases, ' ')} END`
}

/** A number as the driver has it, or as {@link inDigits} writes it. */
function fromDigits(value: unknown): number {
  const [digits, power] = String(value).split(' ')
  return power === undefined ? Number(value) : Number(digits) * 2 ** Number(power)
}

/** `node:sqlite` of Node 22 takes for missing what is empty and lies nowhere. */
const NO_BYTES = new Uint8Array(1).subarray(1)

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
    inJson: (column) => unlessMissing(column, inDigits(column)),
    fromDriver: fromDigits,
  },
  boolean: { column: () => 'INTEGER', toDriver: (value) => (value ? 1 : 0), fromDriver: booleanRead },
  timestamp: {
    column: () => 'TEXT',
    toDriver: (value: Date) => value.toISOString(),
    // Written otherwise, it would compare otherwise, and JavaScript would take its own zone. What is finer, it leaves out.
    fromDriver: (value: string) =>
      new Date(value[10] === 'T' && value[19] === '.' && value.endsWith('Z') ? value : NaN),
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
    toDriver: (value: Uint8Array) => (value.length === 0 ? NO_BYTES : value),
    fromDriver: bytesRead,
  },
  json: {
    column: () => 'TEXT',
    present: (column) => sql`json_type(iif(json_valid(${column}), ${column}, 'null')) <> 'null'`,
    toDriver: (value) => JSON.stringify(value),
    fromDriver: (value: string) => JSON.parse(value) as unknown,
  },
}
