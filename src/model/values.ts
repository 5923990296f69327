import { type Never, type PlainValue, type Shape, type TypeBehaviour, TYPES, type Value } from './types.js'

const behaviourOf = ({ type }: Shape): TypeBehaviour => TYPES[type]

/** Whether a value may stand in a field of this shape; missing values are the caller's business. */
export function accepts(field: Shape, value: unknown): value is Value {
  return behaviourOf(field).accepts(value, field)
}

/** An accepted value in a form that whoever gave it cannot change any more. */
export function ownValue(field: Shape, value: Value): Value {
  return behaviourOf(field).own?.(value) ?? value
}

/** The field's type in words, for messages: `an integer`, `one of private, members, public`. */
export function describeType(field: Shape): string {
  return behaviourOf(field).called(field)
}

/** The JSON form of a value of this type. */
export function toPlain(field: Shape, value: Value): PlainValue {
  const { toPlain: write } = behaviourOf(field)
  return write ? write(value, field) : (value as PlainValue)
}

/** The value a JSON form stands for; the result still has to be checked with {@link accepts}. */
export function fromPlain(field: Shape, plain: PlainValue): unknown {
  const { fromPlain: read } = behaviourOf(field)
  return read ? read(plain, field) : plain
}

/** How JSON that is sent holds a value of this type: as {@link toPlain}, but for documents, which are JSON already. */
export const toJson = (field: Shape, value: Value): unknown => (field.type === 'json' ? value : toPlain(field, value))

/** The value that JSON which was sent stands for; the result still has to be checked with {@link accepts}. */
export const fromJson = (field: Shape, sent: unknown): unknown =>
  isMissing(sent) || field.type === 'json' ? sent : fromPlain(field, sent as PlainValue)

/** What a person typed, as a value of this type; the result still has to be checked with {@link accepts}. */
export function readTyped(field: Shape, typed: string): unknown {
  const { read } = behaviourOf(field)
  return read ? read(typed, field) : typed
}

/** Whether one value of this type can be below another. */
export const isOrdered = (field: Shape): boolean => behaviourOf(field).ordered === true

/** The type that values compare as: choices as the text they are, decimals only with those of as many digits. */
export const comparesAs = (field: Shape): string => behaviourOf(field).comparesAs?.(field) ?? field.type

/** Whether a comparison with one of several values is one with a list of them. */
export const isListable = (field: Shape): boolean => behaviourOf(field).listable === true

/** Whether values, or what a list holds, are numbers that JSON holds as text. */
export const isNumberAsText = ({ type, item }: Shape): boolean => behaviourOf({ type: item ?? type }).written === true

/** The largest number that may be given where databases number new records; nothing where they cannot. */
export const numbersUpTo = (field: Shape): number | bigint | undefined => behaviourOf(field).numbersUpTo

/** Whether values of this type are never part of a key (or unique), sorted by, or compared. */
export const isNever = (field: Shape, what: Never): boolean => behaviourOf(field).never?.includes(what) === true

/** Makes a value for a field that is filled in when a record is created; nothing where the database does that. */
export const freshValue = (field: Shape): Value | undefined => behaviourOf(field).fresh?.()

/** Whether a field can be filled in: numbered by the database, or with a value that is made for it. */
export const isFillable = (field: Shape): boolean =>
  numbersUpTo(field) !== undefined || behaviourOf(field).fresh !== undefined

/** What is wrong with a shape that is data from outside; nothing where it is one. */
export function misshapen(shape: Shape): string | undefined {
  if (!Object.hasOwn(TYPES, shape.type)) return 'has a type that does not exist'
  return behaviourOf(shape).misshapen?.(shape)
}

/** A decimal as a whole number of its smallest unit: what it is ordered by. */
export function unitsOf(decimal: string): bigint {
  return BigInt(decimal.replace('.', ''))
}

/** A decimal of this scale from a whole number of its smallest unit. */
export function decimalFrom(units: bigint, scale: number): string {
  const digits = String(units < 0n ? -units : units).padStart(scale + 1, '0')
  return `${units < 0n ? '-' : ''}${digits.slice(0, -scale)}.${digits.slice(-scale)}`
}

const DECIMAL = /^-?\d+\.\d+$/

/** What a value is ordered by: a decimal by its units, any other text by its characters. */
export function rankOf(value: Value): string | number | bigint | Date {
  if (typeof value === 'string') return DECIMAL.test(value) ? unitsOf(value) : value
  return value as number | bigint | Date
}

/** Exact equality of two present values of one type: no case folding, no trimming, instants by their time. */
export function sameValue(left: Value, right: Value): boolean {
  if (left instanceof Date) return right instanceof Date && left.getTime() === right.getTime()
  if (Array.isArray(left)) {
    return (
      Array.isArray(right) &&
      left.length === right.length &&
      left.every((item, at) => sameValue(item as Value, right[at] as Value))
    )
  }
  if (left instanceof Uint8Array) {
    return right instanceof Uint8Array && left.length === right.length && left.every((byte, at) => byte === right[at])
  }
  return left === right
}

/** Whether a value is missing: law 6 treats `null` and `undefined` alike. */
export function isMissing(value: unknown): value is null | undefined {
  return value === null || value === undefined
}
