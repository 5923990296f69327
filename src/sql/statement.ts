import { placeholderFor, writerFor } from './stored.js'
import { valueWithoutRecord } from '../decide/index.js'
import { isMissing, type Value } from '../model/index.js'
import type { Caller } from '../rules/index.js'
import type { Dialect } from './dialect.js'
import { eachPiece, type Fragment, type Need, type Slot } from './fragment.js'

/** Where the values of a statement's slots come from. */
export interface Bindings {
  readonly caller: Caller
  /** The moment of the request; asked only where the statement needs it. */
  readonly clock: () => Date
  /** Values given with the request, by name; a missing one is NULL. */
  readonly given?: Readonly<Record<string, unknown>>
}

/** SQL text, and what binds values to its placeholders. It can be kept and run again with other values. */
export interface Statement {
  readonly text: string
  /** The values for the placeholders, in their order, as the driver takes them. */
  bind(bindings: Bindings): unknown[]
}

/** Writes a placeholder's mark from its number, counted from 1. */
export type Mark = (number: number) => string

/** Writes a whole statement out, with what it needs before it. */
export function render(fragment: Fragment, dialect: Dialect): Statement {
  const needed = new Set<Need['need']>()
  eachPiece(fragment, (piece) => {
    if (typeof piece === 'object' && 'need' in piece) needed.add(piece.need)
  })
  const { text, bind } = renderPiece(fragment, dialect)
  return { text: needed.size > 0 && dialect.apart ? dialect.apart(needed) + text : text, bind }
}

/**
 * Writes a fragment out, as a piece of a statement; where placeholders are numbered, the same value takes the same number.
 *
 * @param mark how to mark a placeholder; left out, as the dialect's own drivers have it
 */
export function renderPiece(fragment: Fragment, dialect: Dialect, mark: Mark = markOf(dialect)): Statement {
  const numbers = new Map<string, number>()
  const slots: Slot[] = []
  let text = ''
  eachPiece(fragment, (piece) => {
    if (typeof piece === 'string') {
      text += piece
      return
    }
    if ('need' in piece) return
    const id = dialect.numbered ? JSON.stringify(piece) : ''
    const number = (dialect.numbered && numbers.get(id)) || slots.push(piece)
    numbers.set(id, number)
    text += placeholderFor(dialect, mark(number), piece.shape)
  })
  return { text, bind: binder(slots.map((slot) => readerOf(dialect, slot))) }
}

/** One statement knows one moment, asked for only where it needs one. */
function binder(readers: readonly Reader[]): Statement['bind'] {
  return ({ caller, clock, given }) => {
    const values: unknown[] = []
    let now: Date | undefined
    for (const { asksTime, read } of readers) {
      if (asksTime) now ??= clock()
      values.push(read(given, caller, now))
    }
    return values
  }
}

/** How a dialect's own drivers mark placeholders. */
export const markOf =
  ({ numbered }: Dialect): Mark =>
  (number) =>
    numbered ? `$${number}` : '?'

/** Reads the value of one slot. */
interface Reader {
  readonly asksTime: boolean
  readonly read: (given: Bindings['given'], caller: Caller, now: Date | undefined) => unknown
}

function readerOf(dialect: Dialect, { source, shape, edge }: Slot): Reader {
  const toDriver = edge ? (value: Value) => dialect.edge(value as Date, edge) : writerFor(dialect, shape)
  const write = (value: unknown) => (isMissing(value) ? null : toDriver(value as Value))
  if (source.kind === 'given') {
    const { name } = source
    const read = (given: Bindings['given']) => {
      const value = given?.[name]
      // A value that got lost on the way is not one that is missing.
      if (value === undefined) throw new TypeError(`A statement has a place for ${name}, and nothing was given for it.`)
      return write(value)
    }
    return { asksTime: false, read }
  }
  if (source.kind === 'value') {
    const value = write(valueWithoutRecord(source, NO_CALLER, NO_TIME))
    return { asksTime: false, read: () => value }
  }
  const asksTime = source.kind === 'now'
  return { asksTime, read: (_, caller, now) => write(valueWithoutRecord(source, caller, now ?? NO_TIME)) }
}

const NO_CALLER: Caller = { signedIn: false, roles: [], attributes: {} }
const NO_TIME = new Date(0)
