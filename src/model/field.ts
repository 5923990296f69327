import { ModelError } from './errors.js'
import type { Json, Shape } from './types.js'

/** A field as plain data, as it stands in a model and in a rulebook. */
export interface FieldData extends Shape {
  /** The value may be missing. */
  readonly optional?: true
  /** Part of the table's key. */
  readonly key?: true
  /** No two records have the same value, or none that have the same in these fields as well: an index of the database sees to it. */
  readonly unique?: true | readonly string[]
  /** The store fills it in on create when it is not given. */
  readonly generated?: true
  /** Who else gives it a value: the database where none is given on create, or always, so that none can be given. */
  readonly filled?: 'default' | 'computed'
  /** The table whose key this field holds. */
  readonly references?: string
  /** What the database calls it, where that is another name. */
  readonly stored?: string
}

declare const VALUE: unique symbol

/**
 * A field under construction. `V` is the JavaScript type of its value, `O` whether it may be missing,
 * `R` the table it refers to, `K` whether it is part of the key.
 */
export interface Field<
  V = unknown,
  O extends boolean = boolean,
  R extends string | null = string | null,
  K extends boolean = boolean,
> {
  readonly data: FieldData
  readonly [VALUE]?: { readonly value: V; readonly optional: O; readonly references: R; readonly key: K }
  /** Makes the field part of the table's key. A key is never missing and never changes. */
  key(): Field<V, O, R, true>
  /** Allows the value to be missing. */
  optional(): Field<V, true, R, K>
  /**
   * Says that no two records have the same value, as a unique index of the database sees to. Whether a value is taken
   * then tells of the record that has it: see `conflicts` of the rules.
   *
   * @param within other fields of the table: only records that have the same in all of these cannot have the same value.
   *   `number: integer().unique('siteId')` for the plots of a site
   */
  unique(...within: readonly string[]): Field<V, O, R, K>
  /** Says that the store fills the value in on create when none is given, such as a serial number. */
  generated(): Field<V, O, R, K>
  /**
   * Says that the database has a default of its own for the field, where none is given on create. What it will be is not
   * known beforehand: rules for a create that look at it need a stamp, or a check that it is given.
   */
  defaulted(): Field<V, O, R, K>
  /** Says that the database computes the value: it can be read and looked at, and never be given. */
  computed(): Field<V, O, R, K>
  /**
   * Says what the database calls the field, where that is another name: `references('members').storedAs('author')`. Only
   * SQL ever shows it.
   */
  storedAs(column: string): Field<V, O, R, K>
}

function field<V, O extends boolean, R extends string | null, K extends boolean>(data: FieldData): Field<V, O, R, K> {
  return Object.freeze({
    data: Object.freeze(data),
    key: () => field<V, O, R, true>({ ...data, key: true }),
    optional: () => field<V, true, R, K>({ ...data, optional: true }),
    unique: (...within: readonly string[]) => {
      if (data.unique === undefined) return field<V, O, R, K>({ ...data, unique: within.length > 0 ? within : true })
      throw new ModelError('A field is unique() once; say what else is unique of one of the other fields in it.')
    },
    generated: () => field<V, O, R, K>({ ...data, generated: true }),
    defaulted: () => field<V, O, R, K>({ ...data, filled: 'default' }),
    computed: () => field<V, O, R, K>({ ...data, filled: 'computed' }),
    storedAs: (column: string) => field<V, O, R, K>({ ...data, stored: column }),
  })
}

type Plain<V> = Field<V, false, null, false>

/** Text of any length, compared exactly: case, blanks and accents all count. */
export const text = (): Plain<string> => field({ type: 'text' })

/** A whole number from -(2^53 - 1) to 2^53 - 1. */
export const integer = (): Plain<number> => field({ type: 'integer' })

/** A whole number of 64 bits; a `bigint` in JavaScript. */
export const bigInteger = (): Plain<bigint> => field({ type: 'bigInteger' })

/**
 * An exact decimal number of at most 18 digits; text in JavaScript, with all its digits: `'12.50'`.
 *
 * @param scale how many digits stand behind the point, 1 to 17
 * @example decimal(2)
 */
export const decimal = (scale: number): Plain<Decimal> => field({ type: 'decimal', scale })

/** A decimal number as text. */
export type Decimal = `${number}.${number}`

/** A number with a floating point, of 64 bits; finite. Two that look alike need not be equal: prefer `decimal` for money. */
export const float = (): Plain<number> => field({ type: 'float' })

/** A day without a time and without a zone; text in JavaScript: `'2026-11-26'`. */
export const date = (): Plain<DateText> => field({ type: 'date' })

/** A day as text. */
export type DateText = `${number}-${number}-${number}`

/** A time of day without a zone, to the second; text in JavaScript: `'09:30:00'`. */
export const time = (): Plain<TimeText> => field({ type: 'time' })

/** A time of day as text. */
export type TimeText = `${number}:${number}:${number}`

/** A uuid in lower case; `generated()` fills in a random one. */
export const uuid = (): Plain<string> => field({ type: 'uuid' })

/** Bytes; a `Uint8Array` in JavaScript. */
export const bytes = (): Plain<Uint8Array> => field({ type: 'bytes' })

/**
 * A document: any value that JSON can hold, read and written as a whole. Conditions can ask whether there is one, and
 * nothing of what is in it: databases do not agree on that. One that is sent always counts as changed.
 *
 * @example json<{ readonly rows: number }>()
 */
export const json = <V extends Json = Json>(): Plain<V> => field({ type: 'json' })

/** True or false. */
export const boolean = (): Plain<boolean> => field({ type: 'boolean' })

/** A moment in time, to the millisecond; a `Date` in JavaScript. */
export const timestamp = (): Plain<Date> => field({ type: 'timestamp' })

/**
 * One of a fixed set of words.
 *
 * @param choices the words, at least one
 * @example choice('private', 'members', 'public')
 */
export const choice = <const C extends readonly [string, ...string[]]>(...choices: C): Plain<C[number]> =>
  field({ type: 'choice', choices: Object.freeze(choices) })

/**
 * A list of texts, whole numbers or uuids, kept in one field.
 *
 * @param item the kind of its items, such as `text()`
 * @example list(text())
 */
export const list = <V extends string | number | bigint>(item: Plain<V>): Plain<readonly V[]> =>
  field({ type: 'list', item: item.data.type as NonNullable<Shape['item']> })

/**
 * The key of a record of another table (or of the same). Its type is that of the other table's key.
 * A field `plotId` makes `row.plot` available in conditions, and the referring table's name on the other side.
 *
 * @param table the name of the table referred to
 * @example references('members')
 */
export const references = <const R extends string>(table: R): Field<never, false, R, false> =>
  // `defineModel` puts the type of the other table's key in place.
  field({ type: 'integer', references: table })
