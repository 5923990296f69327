import type { Column } from 'drizzle-orm'
import {
  bigInteger,
  boolean,
  bytes,
  choice,
  date,
  decimal,
  type Field,
  float,
  integer,
  list,
  text,
  time,
  timestamp,
  uuid,
  json,
} from '../../model/index.js'

/** What a column has besides what all have. */
interface Details {
  readonly baseColumn?: Column
  readonly precision?: number
  readonly scale?: number
}

/** What lists can be made of, of Drizzle's kinds of columns. */
export const LISTS = { PgText: text, PgUUID: uuid, PgBigInt53: integer, PgBigInt64: bigInteger } as const

/** The field of a list; none where its items are of a kind that no list has. */
const listOf = (column: Column): Field | undefined => {
  const kind = (column as Details).baseColumn?.columnType
  return kind !== undefined && Object.hasOwn(LISTS, kind)
    ? list((LISTS[kind as keyof typeof LISTS] as typeof text)())
    : undefined
}

/** The field of an exact number; none where it has no limit, no digit behind the point, or more than there can be. */
function decimalOf(column: Column): ReturnType<typeof decimal> | undefined {
  const { precision, scale = 0 } = column as Details
  return precision !== undefined && precision <= 18 && scale >= 1 && scale <= 17 ? decimal(scale) : undefined
}

const textOf = ({ enumValues }: Column) =>
  enumValues?.[0] === undefined ? text() : choice(enumValues[0], ...enumValues.slice(1))

/**
 * What Drizzle's kinds of columns hold in the database, as fields, whatever JavaScript values Drizzle makes of them. A kind that
 * is not here has values that no field holds.
 */
export const KINDS = {
  PgSmallInt: integer,
  PgInteger: integer,
  PgSmallSerial: integer,
  PgSerial: integer,
  PgBigInt53: integer,
  PgBigSerial53: integer,
  PgBigInt64: bigInteger,
  PgBigSerial64: bigInteger,
  PgDoublePrecision: float,
  PgNumeric: decimalOf,
  PgNumericNumber: decimalOf,
  PgNumericBigInt: decimalOf,
  PgBoolean: boolean,
  PgText: textOf,
  PgVarchar: textOf,
  PgChar: textOf,
  PgEnumColumn: textOf,
  PgEnumObjectColumn: textOf,
  PgUUID: uuid,
  PgDate: date,
  PgDateString: date,
  PgTime: time,
  PgTimestamp: timestamp,
  PgTimestampString: timestamp,
  PgJson: json,
  PgJsonb: json,
  PgArray: listOf,
  MySqlTinyInt: integer,
  MySqlSmallInt: integer,
  MySqlMediumInt: integer,
  MySqlInt: integer,
  MySqlYear: integer,
  MySqlSerial: integer,
  MySqlBigInt53: integer,
  MySqlBigInt64: bigInteger,
  MySqlDouble: float,
  MySqlReal: float,
  MySqlDecimal: decimalOf,
  MySqlDecimalNumber: decimalOf,
  MySqlDecimalBigInt: decimalOf,
  MySqlBoolean: boolean,
  MySqlText: textOf,
  MySqlVarChar: textOf,
  MySqlChar: textOf,
  MySqlEnumColumn: textOf,
  MySqlEnumObjectColumn: textOf,
  MySqlBinary: bytes,
  MySqlVarBinary: bytes,
  MySqlDate: date,
  MySqlDateString: date,
  MySqlTime: time,
  MySqlDateTime: timestamp,
  MySqlDateTimeString: timestamp,
  MySqlTimestamp: timestamp,
  MySqlTimestampString: timestamp,
  MySqlJson: json,
  SQLiteInteger: integer,
  SQLiteTimestamp: integer,
  SQLiteReal: float,
  SQLiteBoolean: boolean,
  SQLiteText: textOf,
  SQLiteTextJson: json,
  SQLiteBlobBuffer: bytes,
} as const satisfies Readonly<Record<string, (column: Column) => Field | undefined>>

/** The field of a column: none where no field can hold its values, `unclear` where types take it for one that it is not. */
export function kindOf(column: Column): Field | 'unclear' | undefined {
  if (!Object.hasOwn(KINDS, column.columnType)) return undefined
  const field = KINDS[column.columnType as keyof typeof KINDS](column)
  return field ?? (column.columnType === 'PgArray' ? undefined : 'unclear')
}
