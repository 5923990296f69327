import type { MemoryRecord } from '../../decide/index.js'
import type { Action } from '../../rules/index.js'
import { inRanges } from '../bench/keys.js'

/** Where something stands in a file, counted from 1. */
export interface Place {
  readonly line: number
  readonly column: number
}

/** Which of a table's records are meant, for a caller. */
export type Aspect =
  /** Those the caller sees in a list. */
  | { readonly what: 'sees' }
  /** Those the caller can read by their keys; the same, unless the rules set the two apart. */
  | { readonly what: 'gets' }
  /** Those the caller sees and may do this to. */
  | { readonly what: 'may'; readonly action: Action }
  /** Those the caller sees without this field. */
  | { readonly what: 'hidden'; readonly field: string }
  /** Those of which the caller may change this field by an update. */
  | { readonly what: 'changes'; readonly field: string }

/** Whether it is about seeing a record as such. */
export const isSight = ({ what }: Aspect): boolean => what === 'sees' || what === 'gets'

/** What a set of records has to be; keys as they are printed. */
export interface KeysExpected {
  /** These and no others; so many, whichever; or all there are: in the table, or of those seen. */
  readonly exactly?: readonly string[] | number | 'all'
  readonly atLeast?: readonly string[] | number
  readonly noneOf?: readonly string[]
  /** The table is refused as a whole, with this status. */
  readonly refused?: 401 | 403
}

interface Stated {
  readonly caller: string
  readonly table: string
  /** Where it stands, if it comes from a file. */
  readonly place?: Place
}

/** An expectation about which records a caller sees or may do something to. */
export interface SetExpectation extends Stated {
  readonly kind: 'set'
  readonly about: Aspect
  readonly expected: KeysExpected
}

/** An expectation about what comes of a write, which is tried and taken back. */
export interface TryExpectation extends Stated {
  readonly kind: 'try'
  readonly action: Action
  /** The record's key as it is printed; none for a create. */
  readonly key?: string
  readonly values: MemoryRecord
  /** The HTTP status that fits what comes of it; 200 where it is done. */
  readonly status: number
  /** What the message has to contain. */
  readonly message?: string
  /** What the record has to hold afterwards, by field. */
  readonly stored?: MemoryRecord
  /** The moment of the try, where it is another than that of the file. */
  readonly at?: Date
}

/** What a developer states must come out for a caller. */
export type Expectation = SetExpectation | TryExpectation

/** A change to the rules that no expectation has to notice, and why. */
export interface AcceptedChange {
  readonly change: string
  readonly reason: string
}

/** A file of expectations, read. */
export interface Expectations {
  /** The moment at which they hold; left out, now. */
  readonly at?: Date
  /** Callers that only this file knows, by name. */
  readonly furtherCallers: Readonly<Record<string, unknown>>
  readonly all: readonly Expectation[]
  readonly accepted: readonly AcceptedChange[]
}

/** What an expectation is about, in words: `sees`, `may update`, `hidden email`, `changes title`. */
export function aspectName(about: Aspect): string {
  switch (about.what) {
    case 'sees':
    case 'gets':
      return about.what
    case 'may':
      return `may ${about.action}`
    case 'hidden':
    case 'changes':
      return `${about.what} ${about.field}`
  }
}

/** An expectation in one line: `ben entries sees: 1, 3, 5`. */
export function expectationText(expectation: Expectation): string {
  const { caller, table } = expectation
  if (expectation.kind === 'set') {
    return `${caller} ${table} ${aspectName(expectation.about)}: ${keysText(expectation.expected)}`
  }
  const { action, key, values, status } = expectation
  const fields = Object.keys(values)
  const what = [
    action,
    ...(key === undefined ? [] : [key]),
    ...(fields.length > 0 ? [`with ${fields.join(', ')}`] : []),
  ]
  return `${caller} ${table} ${what.join(' ')}: gives ${status}`
}

/** So many keys are written out. */
const SHOWN = 12

/** Keys in one line, the first few where there are many. */
export function listKeys(keys: readonly string[]): string {
  if (keys.length === 0) return 'none'
  const written = inRanges(keys).map((key) => (String(key).includes(',') ? `(${key})` : String(key)))
  if (written.length <= SHOWN) return written.join(', ')
  return `${written.slice(0, SHOWN - 2).join(', ')}, … (${keys.length} in all)`
}

function keysText({ exactly, atLeast, noneOf, refused }: KeysExpected): string {
  const amount = (keys: readonly string[] | number | 'all') =>
    typeof keys === 'object' ? listKeys(keys) : String(keys)
  return [
    ...(exactly === undefined ? [] : [amount(exactly)]),
    ...(atLeast === undefined ? [] : [`at least ${amount(atLeast)}`]),
    ...(noneOf === undefined ? [] : [`none of ${listKeys(noneOf)}`]),
    ...(refused === undefined ? [] : [`refused with ${refused}`]),
  ].join(', ')
}
