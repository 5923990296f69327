import { bytesFrom, type FieldData, type FieldType, type Shape, type Value } from '../model/index.js'
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
  /** A present value from what the driver returns, or JSON. */
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

/** How to read a present value of this type as the driver returns it; nothing where it comes as it is. */
export function readerFor({ types }: Stores, shape: Shape): ((value: unknown) => unknown) | undefined {
  const { fromDriver } = types[shape.type]
  return fromDriver && ((value) => fromDriver(value, shape))
}
