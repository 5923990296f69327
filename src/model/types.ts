import { LIMITS } from './limits.js'

/** The types a field can have. */
export const FIELD_TYPES = [
  'text',
  'integer',
  'bigInteger',
  'decimal',
  'boolean',
  'float',
  'timestamp',
  'date',
  'time',
  'uuid',
  'choice',
  'list',
  'bytes',
  'json',
] as const

/** The type of a field. */
export type FieldType = (typeof FIELD_TYPES)[number]

/** What lists can be made of. */
export const ITEM_TYPES = ['text', 'integer', 'bigInteger', 'uuid'] as const

/** The part of a field that says which values it takes. */
export interface Shape {
  readonly type: FieldType
  /** The values of a `choice`. */
  readonly choices?: readonly string[]
  /** How many digits a `decimal` has behind the point. */
  readonly scale?: number
  /** What a `list` is made of. */
  readonly item?: (typeof ITEM_TYPES)[number]
}

/** A value as JavaScript holds it: what records, callers and conditions are made of. */
export type Value = string | number | bigint | boolean | Date | Uint8Array | readonly Value[] | JsonObject

/** A document as JSON has it. */
export type Json = string | number | boolean | null | readonly Json[] | JsonObject

/** An object in a document. */
export interface JsonObject {
  readonly [name: string]: Json
}

/** A value as JSON holds it: what the rulebook stores. */
export type PlainValue = string | number | boolean | readonly PlainValue[]

/** What values of some types are never. */
export type Never = 'key' | 'sorted' | 'compared'

/** Everything about a type but how databases store it, which each dialect says. */
export interface TypeBehaviour {
  /** What a value of it is, with its article, for messages. */
  called(shape: Shape): string
  /** Whether a value is one of this type. */
  accepts(value: unknown, shape: Shape): boolean
  /** The value in a form of its own, where whoever gave it could still change it. */
  own?(value: Value): Value
  /** How JSON holds it; left out, as it is. */
  toPlain?(value: Value, shape: Shape): PlainValue
  /** What the JSON form stands for; left out, itself. */
  fromPlain?(plain: PlainValue, shape: Shape): unknown
  /** Reads what a person typed, such as a part of a key; left out, the text itself. */
  read?(typed: string, shape: Shape): unknown
  /** Whether one value can be below another. */
  readonly ordered?: true
  /** The type that its values compare as; left out, its own. */
  comparesAs?(shape: Shape): string
  /** What keeps a shape from being one of this type. */
  misshapen?(shape: Shape): string | undefined
  /** Where databases can number its values: the largest number that may be given, so that others can follow on. */
  readonly numbersUpTo?: number | bigint
  /** Whether its values are numbers that JSON holds as text, so that no digit is lost. */
  readonly written?: true
  /** Whether a list of values can be compared with: it is one value then, instead of one for each. */
  readonly listable?: true
  /** What its values are never: part of a key, or unique; sorted by; compared at all, so that they are only there or not. */
  readonly never?: readonly Never[]
  /** Makes a value that nobody has yet, for a field that is filled in. */
  fresh?(): Value
}

/** PostgreSQL cannot store NUL in text, and lone surrogates do not survive UTF-8: no engine gets either. */
const isText = (value: unknown): value is string =>
  typeof value === 'string' && !value.includes('\0') && !/\p{Surrogate}/u.test(value)

const isLike = (value: unknown, pattern: RegExp): value is string => typeof value === 'string' && pattern.test(value)

/** One way to write each number, so that equal numbers are equal texts. */
const isDecimal = (value: unknown, { scale = 1 }: Shape): boolean =>
  isLike(value, new RegExp(`^(?!-0\\.0+$)-?(0|[1-9]\\d{0,${17 - scale}})\\.\\d{${scale}}$`))

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

/** Whether there is such a second, written in full: JavaScript reads more than that, and the 30th of February as the 2nd of March. */
const isSecond = (written: string): boolean => String(new Date(`${written}Z`).toJSON()).startsWith(written)

/** Dates compare as texts: of four digits a year. */
const isDate = (value: unknown): boolean => isLike(value, /^[1-9]/) && isSecond(`${value}T00:00:00`)

/** A moment as RFC 3339 has it, with its zone: without one, JavaScript would take its own. */
const momentFrom = (written: unknown): unknown =>
  isLike(written, /^.{19}(\.\d+)?(Z|[+-]\d\d:\d\d)$/) && isSecond(written.slice(0, 19)) ? new Date(written) : written

const UUID = /^[0-9a-f]{8}(?:-[0-9a-f]{4}){3}-[0-9a-f]{12}$/

const hexOf = (bytes: Uint8Array): string => Array.from(bytes, (byte) => byte.toString(16).padStart(2, '0')).join('')

/** Bytes from their hexadecimal digits; nothing where that is no such text. */
export function bytesFrom(hex: unknown): Uint8Array | undefined {
  if (!isLike(hex, /^(?:[0-9a-f]{2})*$/i)) return undefined
  return Uint8Array.from(hex.match(/../g) ?? [], (pair) => parseInt(pair, 16))
}

/** What every database can keep of JSON: plain values, as deep as people nest them, and no text that is none. */
function isJson(value: unknown, depth = 0): value is Json {
  if (value === null || typeof value === 'boolean') return depth > 0 || value !== null
  if (typeof value === 'string') return isText(value)
  if (typeof value === 'number') return Number.isFinite(value)
  if (typeof value !== 'object' || depth >= LIMITS.jsonDepth) return false
  if (Array.isArray(value)) return everyItem(value, (item) => isJson(item, depth + 1))
  const proto: unknown = Object.getPrototypeOf(value)
  if (proto !== Object.prototype && proto !== null) return false
  return Reflect.ownKeys(value).every(
    (name) => isText(name) && name !== '__proto__' && isJson((value as JsonObject)[name], depth + 1),
  )
}

/** A copy that nobody can change, with one zero. */
function ownJson(value: Value): Value {
  return JSON.parse(JSON.stringify(value), (_, part: unknown) =>
    typeof part === 'object' && part !== null ? Object.freeze(part) : part,
  ) as Value
}

function parsed(text: string): unknown {
  try {
    return JSON.parse(text)
  } catch {
    return undefined
  }
}

const asPlain = (type: FieldType, value: Value): PlainValue =>
  TYPES[type].toPlain?.(value, { type }) ?? (value as PlainValue)

/** JavaScript reads further texts as numbers, such as an empty one, `0x10` and `1e0`. */
const WHOLE = /^-?\d+$/
const NUMBER = /^[-+.\de]+$/i

/** Every type there is, with what it does. One that is not here does not compile. */
export const TYPES: Readonly<Record<FieldType, TypeBehaviour>> = {
  text: { called: () => 'text', accepts: isText, listable: true },
  integer: {
    called: () => 'an integer',
    accepts: (value) => Number.isSafeInteger(value),
    read: (typed) => (WHOLE.test(typed) ? Number(typed) : typed),
    ordered: true,
    numbersUpTo: 2 ** 52,
    listable: true,
  },
  bigInteger: {
    called: () => 'a whole number of 64 bits: a bigint, or text in JSON',
    accepts: (value) => typeof value === 'bigint' && BigInt.asIntN(64, value) === value,
    // JSON numbers lose digits beyond 2^53.
    toPlain: String,
    fromPlain: (plain) => (isLike(plain, WHOLE) ? BigInt(plain) : plain),
    read: (typed) => (WHOLE.test(typed) ? BigInt(typed) : typed),
    ordered: true,
    numbersUpTo: 2n ** 62n,
    listable: true,
    written: true,
  },
  decimal: {
    called: ({ scale }) => `a decimal as text with ${scale} digits behind the point`,
    accepts: isDecimal,
    read: (typed, { scale = 1 }) => {
      const [, sign, whole, digits = ''] = /^(-?)0*(?=\.?\d)(\d*)\.?(\d*)$/.exec(typed) ?? []
      return sign === undefined ? typed : `${sign}${whole || '0'}.${digits.padEnd(scale, '0')}`
    },
    written: true,
    ordered: true,
    comparesAs: ({ scale }) => `decimal ${scale}`,
    misshapen: ({ scale }) =>
      Number.isInteger(scale) && Number(scale) >= 1 && Number(scale) <= 17
        ? undefined
        : 'is a decimal and needs 1 to 17 digits behind the point',
  },
  float: {
    called: () => 'a finite number',
    accepts: (value) => Number.isFinite(value),
    // There is one zero.
    own: (value) => (value === 0 ? 0 : value),
    read: (typed) => (NUMBER.test(typed) ? Number(typed) : typed),
    ordered: true,
    never: ['key'],
  },
  boolean: {
    called: () => 'true or false',
    accepts: (value) => typeof value === 'boolean',
    read: (typed) => (['true', 'false'].includes(typed) ? typed === 'true' : typed),
  },
  timestamp: {
    called: () =>
      `a moment from the year ${YEARS[0]} to ${YEARS[1]}: a Date, or text such as 2026-11-26T09:30:00Z in JSON`,
    accepts: isMoment,
    own: (value) => new Date(timeOf(value)),
    toPlain: (value: Date) => value.toISOString(),
    fromPlain: momentFrom,
    read: momentFrom,
    ordered: true,
  },
  date: {
    called: () => `a date as text, such as 2026-11-26, from the year ${YEARS[0]} to ${YEARS[1]}`,
    accepts: isDate,
    ordered: true,
  },
  time: {
    called: () => 'a time of day as text to the second, such as 09:30:00',
    accepts: (value) => isLike(value, /^.{8}$/) && isSecond(`2000-01-01T${value}`),
    read: (typed) => (/^\d\d:\d\d$/.test(typed) ? `${typed}:00` : typed),
    ordered: true,
  },
  uuid: {
    called: () => 'a uuid in lower case',
    accepts: (value) => isLike(value, UUID),
    read: (typed) => typed.toLowerCase(),
    listable: true,
    fresh: () => crypto.randomUUID(),
  },
  choice: {
    called: ({ choices = [] }) => `one of ${choices.join(', ')}`,
    accepts: (value, { choices = [] }) => typeof value === 'string' && choices.includes(value),
    comparesAs: () => 'text',
    misshapen: ({ choices = [] }) =>
      choices.length > 0 && choices.every(isText)
        ? undefined
        : 'is a choice and needs at least one word to choose from',
    listable: true,
  },
  list: {
    called: ({ item = 'text' }) => `a list, each item ${TYPES[item].called({ type: item })}`,
    accepts: (value, { item = 'text' }) =>
      Array.isArray(value) && everyItem(value, (each) => TYPES[item].accepts(each, { type: item })),
    own: (value: readonly Value[]) => Object.freeze(Array.from(value)),
    toPlain: (value: readonly Value[], { item = 'text' }) => value.map((each) => asPlain(item, each)),
    fromPlain: (plain, { item = 'text' }) =>
      Array.isArray(plain)
        ? plain.map((each: PlainValue) => TYPES[item].fromPlain?.(each, { type: item }) ?? each)
        : plain,
    read: (typed, { item = 'text' }) =>
      typed
        .split(',')
        .map((each) => each.trim())
        .filter((each) => each !== '')
        .map((each) => TYPES[item].read?.(each, { type: item }) ?? each),
    misshapen: ({ item }) =>
      item !== undefined && ITEM_TYPES.includes(item)
        ? undefined
        : 'is a list and needs texts, integers, whole numbers of 64 bits or uuids in it',
    never: ['key', 'sorted'],
  },
  bytes: {
    called: () => 'bytes: a Uint8Array, or hexadecimal digits in JSON',
    accepts: (value) => value instanceof Uint8Array,
    own: (value: Uint8Array) => Uint8Array.from(value),
    toPlain: hexOf,
    fromPlain: (plain) => bytesFrom(plain) ?? plain,
    read: (typed) => bytesFrom(typed) ?? typed,
    never: ['key', 'sorted'],
  },
  json: {
    called: () => 'a value that JSON can hold',
    accepts: (value) => isJson(value),
    own: ownJson,
    toPlain: (value) => JSON.stringify(value),
    fromPlain: (plain) => (typeof plain === 'string' ? parsed(plain) : plain),
    read: (typed) => parsed(typed),
    never: ['key', 'sorted', 'compared'],
  },
}
