import { brandOf, isBranded, show } from '../model/index.js'
import { RuleError } from './errors.js'
import { partsOf } from './grammar.js'
import { print } from './print.js'
import type { CallerCondition, Condition } from './tree.js'

const CONDITION = brandOf('condition')

/** The conditions that were made since rules began to be written, and stand in nothing yet; none where none are written. */
let loose: Set<Condition> | undefined

/** Marks a condition as made here. What carries no such mark came from outside, and is none. */
export function made(condition: Condition): Condition {
  const marked: Condition = Object.freeze({ ...condition, [CONDITION]: true })
  if (!loose) return marked
  placed(condition, loose)
  loose.add(marked)
  return marked
}

/** Notes that the parts of a condition stand somewhere: those that were made, whose own parts were noted when they were. */
function placed(condition: Condition, among: Set<Condition>): void {
  for (const part of partsOf(condition)) {
    if (isBranded(part, CONDITION)) among.delete(part)
    else placed(part, among)
  }
}

/**
 * Runs what makes conditions, and looks whether all of them stand somewhere: of two between which `&&` stands, JavaScript keeps
 * the second. (Between which `||` stands, it does not even make the second.)
 *
 * @throws {RuleError} where a condition was made that stands nowhere
 */
export function withoutLoose<T>(write: () => T): T {
  const around = loose
  const own = (loose = new Set<Condition>())
  let written: T
  try {
    written = write()
  } finally {
    loose = around
  }
  const [lost] = own
  if (!lost) return written
  throw new RuleError(
    `the condition “${print(lost)}” is made and stands nowhere. Of two conditions, && keeps one: write all(…), any(…) or not(…); and make none that is not used.`,
  )
}

/**
 * The condition, where it was made by this library's own functions.
 * @throws {RuleError} where it is anything else, such as data that looks like one
 */
export function assertCondition(given: unknown): Condition {
  loose?.delete(given as Condition)
  if (isBranded(given, CONDITION)) return given as Condition
  throw new RuleError(`${show(given)} is not a condition; build one from the row, such as row.title.is('Leeks').`)
}

type Combined<C extends readonly Condition[]> = C[number] extends CallerCondition ? CallerCondition : Condition

/**
 * True where every condition is.
 * @throws {RuleError} where one of them is not a condition
 * @example all(row.done.is(false), row.assigneeId.is(caller.id))
 */
export const all = <C extends readonly Condition[]>(...of: C): Combined<C> =>
  made({ kind: 'all', of: of.map(assertCondition) }) as Combined<C>

/**
 * True where at least one condition is.
 * @throws {RuleError} where one of them is not a condition
 * @example any(row.audience.is('public'), row.authorId.is(caller.id))
 */
export const any = <C extends readonly Condition[]>(...of: C): Combined<C> =>
  made({ kind: 'any', of: of.map(assertCondition) }) as Combined<C>

/**
 * True where the condition is false, also where it is false because a value is missing.
 * @throws {RuleError} where it is not a condition
 * @example not(row.status.is('done'))
 */
export const not = <C extends Condition>(of: C): Combined<[C]> =>
  made({ kind: 'not', of: assertCondition(of) }) as Combined<[C]>
