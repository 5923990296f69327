import { StoreError } from '../guard/index.js'
import {
  bytesFrom,
  decimalFrom,
  describeType,
  type FieldData,
  type FieldType,
  noteAside,
  type Shape,
  unitsOf,
  type Value,
} from '../model/index.js'
import { type Fragment, sql } from './fragment.js'

/** How a database stores the values of a type. What is left out, it takes and returns as it is. */
export interface StoredType {
  /** The type of a column for a field, for `createTables`. */
  column(field: FieldData): string
  /** A placeholder for a value, around the mark the driver looks for. */
  placeholder?(mark: string, shape: Shape): string
  /** A column as it is selected, so that the driver returns it without loss. */
  selected?(column: Fragment): Fragment
  /** A column inside JSON, so that nothing is lost; left out, as it is selected. */
  inJson?(column: Fragment, shape: Shape): Fragment
  /** Whether there is a value in a column; left out, where it is not NULL. */
  present?(column: Fragment): Fragment
  /** A value as the driver takes it. */
  toDriver?(value: Value): unknown
  /** A present value from what the driver returns, or JSON; what is none, as it is, or thrown. */
  fromDriver?(value: unknown, shape: Shape): unknown
}

/** A list as JSON has it: numbers of any size as their digits. */
export const listWritten = (list: readonly Value[]): string =>
  typeof list[0] === 'bigint' ? `[${list.join()}]` : JSON.stringify(list)

/** A list from JSON; JavaScript would read other numbers of large ones. */
export const listRead = (json: string, { item }: Shape): unknown =>
  item === 'bigInteger' ? (json.match(/-?\d+/g) ?? []).map(BigInt) : (JSON.parse(json) as unknown)

/** Drivers return 1 and 0 where there are no booleans; how they were set up, these may be texts. */
export const isTrue = (value: unknown): boolean => value === true || value === 't' || Number(value) === 1

/** A boolean from those: the other numbers that a column takes are neither. */
export const booleanRead = (value: unknown): unknown => isTrue(value) || (isFalse(value) ? false : value)

const isFalse = (value: unknown): boolean => value === false || value === 'f' || (value !== '' && Number(value) === 0)

/** A decimal with as many digits as its field has: columns have more or fewer zeros. */
export function decimalRead(value: string, { scale = 1 }: Shape): unknown {
  const [whole = '0', rest = ''] = value.split('.')
  return /[^0]/.test(rest.slice(scale))
    ? value
    : decimalFrom(unitsOf(`${whole}.${rest.padEnd(scale, '0').slice(0, scale)}`), scale)
}

/** Bytes as the driver returns them, or as JSON has them: in hexadecimal digits. */
export const bytesRead = (value: unknown): unknown =>
  value instanceof Uint8Array ? Uint8Array.from(value) : bytesFrom(value)

/** How a database stores each type: a type that is not here does not compile. */
export type StoredTypes = Readonly<Record<FieldType, StoredType>>

/** What has to be known of a dialect here. */
interface Stores {
  readonly types: StoredTypes
}

/** A placeholder for a value of this type. */
export const placeholderFor = ({ types }: Stores, mark: string, shape: Shape): string =>
  types[shape.type].placeholder?.(mark, shape) ?? mark

/** A column as it is selected. */
export const selectedColumn = ({ types }: Stores, column: Fragment, { type }: Shape): Fragment =>
  types[type].selected?.(column) ?? column

/** A column inside JSON. */
export const columnInJson = (dialect: Stores, column: Fragment, shape: Shape): Fragment =>
  dialect.types[shape.type].inJson?.(column, shape) ?? selectedColumn(dialect, column, shape)

/** Whether there is a value. */
export const isPresent = ({ types }: Stores, column: Fragment, { type }: Shape): Fragment =>
  types[type].present?.(column) ?? sql`${column} IS NOT NULL`

/** How to write a value of this type as the driver takes it. */
export const writerFor = ({ types }: Stores, { type }: Shape): ((value: Value) => unknown) =>
  types[type].toDriver ?? ((value) => value)

/** How to read a present value as the driver returns it. */
export type Reader = (value: unknown) => unknown

/**
 * How to read the values of a field, where they do not come as they are. What a database has there that no value of the field's
 * type stands for, such as `0000-00-00`, `infinity`, or 2 where there are only true and false, is not made one: neither rules nor
 * whoever gets it could tell it from another.
 *
 * @param place the field, as the model calls it
 * @returns a reader, which throws a {@link StoreError} where there is something else
 */
export function readerFor({ types }: Stores, shape: Shape, place: string): Reader | undefined {
  const { fromDriver } = types[shape.type]
  const isOne = IS_ONE[shape.type]
  const refuse = (cause?: unknown): never => {
    throw noteAside(new StoreError('The database did not do this.'), {
      hint: `What is stored in ${place} is not always ${describeType(shape)}: mend the records, or have the model say another type.`,
      cause,
    })
  }
  if (!fromDriver) return isOne && ((value) => (isOne(value, shape) ? value : refuse()))
  return (value) => {
    let read: unknown
    try {
      read = fromDriver(value, shape)
    } catch (error) {
      refuse(error)
    }
    return !isOne || isOne(read, shape) ? read : refuse()
  }
}

/** The moments there are, as fields take them. */
const [FIRST, LAST] = [Date.UTC(1000, 0), Date.UTC(10_000, 0)]

const isText = (value: unknown): value is string => typeof value === 'string'

/**
 * Whether what was read is a value of a type, as far as it matters to whoever compares it: each value that is read is looked at.
 * Left out, whatever it is compares as it does in the database.
 */
const IS_ONE: Partial<Readonly<Record<FieldType, (value: unknown, shape: Shape) => boolean>>> = {
  integer: (value) => Number.isSafeInteger(value),
  bigInteger: (value) => typeof value === 'bigint' && BigInt.asIntN(64, value) === value,
  decimal: (value, { scale = 1 }) => isText(value) && value[value.length - scale - 1] === '.',
  float: (value) => Number.isFinite(value),
  boolean: (value) => typeof value === 'boolean',
  timestamp: (value) => {
    const time = (value as Date).getTime()
    return time >= FIRST && time < LAST
  },
  date: (value) => isText(value) && value.length === 10 && value[4] === '-' && value >= '1',
  time: (value) => isText(value) && value.length === 8 && value[2] === ':' && value < '24',
  list: (value, { item = 'text' }) =>
    Array.isArray(value) && value.every((each) => (IS_ONE[item] ?? isText)(each, { type: item })),
  bytes: (value) => value instanceof Uint8Array,
}
