import type { FieldData, FieldType } from './field.js'

/** A value as JavaScript holds it: what records, callers and conditions are made of. */
export type Value = string | number | bigint | boolean | Date | readonly Value[]

/** A value as JSON holds it: what the rulebook stores. */
export type PlainValue = string | number | boolean | readonly PlainValue[]

interface TypeBehaviour {
  /** The name used in messages, with its article. */
  readonly called: string
  accepts(value: unknown, field: Shape): boolean
  /** The value in a form of its own, where whoever gave it could still change it. */
  own?(value: Value): Value
  toPlain(value: Value): PlainValue
  fromPlain(plain: PlainValue): unknown
}

/** The part of a field that says which values it takes. */
export type Shape = Pick<FieldData, 'type' | 'choices' | 'item' | 'scale'>

const same = (value: Value): PlainValue => value as PlainValue

/** PostgreSQL cannot store NUL in text, and lone surrogates do not survive UTF-8: no engine gets either. */
const isText = (value: unknown): value is string =>
  typeof value === 'string' && !value.includes('\0') && !/\p{Surrogate}/u.test(value)

/** One way to write each number, so that equal numbers are equal texts. */
const isDecimal = (value: unknown, { scale = 1 }: Shape): boolean =>
  typeof value === 'string' && new RegExp(`^(?!-0\\.0+$)-?(0|[1-9]\\d{0,${17 - scale}})\\.\\d{${scale}}$`).test(value)

/** The years every engine keeps exactly, and in which ISO texts sort as the moments do. */
const YEARS = [1000, 9999] as const

/** Not the value's own method, which could be another's. */
const timeOf = (value: unknown): number => Date.prototype.getTime.call(value as Date)

const isMoment = (value: unknown): value is Date => {
  if (!(value instanceof Date) || Number.isNaN(timeOf(value))) return false
  const year = new Date(timeOf(value)).getUTCFullYear()
  return year >= YEARS[0] && year <= YEARS[1]
}

/** Every place of an array, also one that nothing was ever put in. */
const everyItem = (list: readonly unknown[], test: (item: unknown) => boolean): boolean => {
  for (let at = 0; at < list.length; at += 1) if (!test(list[at])) return false
  return true
}

/** A decimal as a whole number of its smallest unit: what it is ordered by. */
export function unitsOf(decimal: string): bigint {
  return BigInt(decimal.replace('.', ''))
}

/** What a value is ordered by; the only texts with an order are decimals. */
export function rankOf(value: Value): number | bigint | Date {
  return typeof value === 'string' ? unitsOf(value) : (value as number | bigint | Date)
}

/** A decimal of this scale from a whole number of its smallest unit. */
export function decimalFrom(units: bigint, scale: number): string {
  const digits = String(units < 0n ? -units : units).padStart(scale + 1, '0')
  return `${units < 0n ? '-' : ''}${digits.slice(0, -scale)}.${digits.slice(-scale)}`
}

const TYPES: Readonly<Record<FieldType, TypeBehaviour>> = {
  text: { called: 'text', accepts: isText, toPlain: same, fromPlain: (plain) => plain },
  integer: {
    called: 'an integer',
    accepts: (value) => Number.isSafeInteger(value),
    toPlain: same,
    fromPlain: (plain) => plain,
  },
  bigInteger: {
    called: 'a whole number of 64 bits as a bigint',
    accepts: (value) => typeof value === 'bigint' && BigInt.asIntN(64, value) === value,
    // JSON numbers lose digits beyond 2^53.
    toPlain: String,
    fromPlain: (plain) => (typeof plain === 'string' && /^-?\d+$/.test(plain) ? BigInt(plain) : plain),
  },
  decimal: {
    called: 'a decimal',
    accepts: isDecimal,
    toPlain: same,
    fromPlain: (plain) => plain,
  },
  boolean: {
    called: 'true or false',
    accepts: (value) => typeof value === 'boolean',
    toPlain: same,
    fromPlain: (plain) => plain,
  },
  timestamp: {
    called: `a valid Date from the year ${YEARS[0]} to ${YEARS[1]}`,
    accepts: isMoment,
    own: (value) => new Date(timeOf(value)),
    toPlain: (value) => (value as Date).toISOString(),
    fromPlain: (plain) => (typeof plain === 'string' ? new Date(plain) : plain),
  },
  choice: {
    called: 'one of its choices',
    accepts: (value, field) => typeof value === 'string' && (field.choices ?? []).includes(value),
    toPlain: same,
    fromPlain: (plain) => plain,
  },
  list: {
    called: 'a list',
    accepts: (value, field) =>
      Array.isArray(value) && everyItem(value, (item) => accepts({ type: field.item ?? 'text' }, item)),
    own: (value) => Object.freeze(Array.from(value as readonly Value[])),
    toPlain: same,
    fromPlain: (plain) => plain,
  },
}

/** Whether a value may stand in a field of this shape; missing values are the caller's business. */
export function accepts(field: Shape, value: unknown): value is Value {
  return TYPES[field.type].accepts(value, field)
}

/** An accepted value in a form that whoever gave it cannot change any more. */
export function ownValue(field: Shape, value: Value): Value {
  return TYPES[field.type].own?.(value) ?? value
}

/** The field's type in words, for messages: `an integer`, `one of private, members, public`. */
export function describeType(field: Shape): string {
  if (field.type === 'choice') return `one of ${(field.choices ?? []).join(', ')}`
  if (field.type === 'decimal') return `a decimal as text with ${field.scale} digits behind the point`
  if (field.type === 'list') return `a list of ${TYPES[field.item ?? 'text'].called} values`
  return TYPES[field.type].called
}

/** The JSON form of a value of this type. */
export function toPlain(field: Shape, value: Value): PlainValue {
  return TYPES[field.type].toPlain(value)
}

/** The value a JSON form stands for; the result still has to be checked with {@link accepts}. */
export function fromPlain(field: Shape, plain: PlainValue): unknown {
  return TYPES[field.type].fromPlain(plain)
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
  return left === right
}

/** Whether a value is missing: law 6 treats `null` and `undefined` alike. */
export function isMissing(value: unknown): value is null | undefined {
  return value === null || value === undefined
}
