import type { PlainValue, Shape } from '../model/index.js'
import type { Comparison } from './comparison.js'

/**
 * Something a condition compares. `level` says whose field it is: 0 is the record the rule is about,
 * higher levels are the records a `some` around it steps to.
 */
export type Operand =
  | { readonly kind: 'field'; readonly level: number; readonly name: string }
  /** A field of the record as it was before the change, inside a condition on how it will be. */
  | { readonly kind: 'old'; readonly name: string }
  /** An attribute of the caller; `roles` is the list of the roles the caller came with. */
  | { readonly kind: 'caller'; readonly name: string }
  | { readonly kind: 'value'; readonly shape: Shape; readonly value: PlainValue }
  | { readonly kind: 'now'; readonly plusSeconds: number }
  /** A value that comes with a request, by name; never part of a rulebook. */
  | { readonly kind: 'given'; readonly name: string; readonly shape: Shape }

/** A comparison of two operands. */
export interface Compare {
  readonly kind: 'compare'
  readonly how: Comparison
  readonly left: Operand
  readonly right: Operand
}

/** Whether some record that a step leads to meets a condition. */
export interface Some {
  readonly kind: 'some'
  /** The name of the step, as `Relation.name`. */
  readonly relation: string
  /** The table stepped to. */
  readonly table: string
  /** What the step starts from: a field of a record, or an attribute of the caller. */
  readonly from: Operand
  /** The level that the record stepped to has in `where`, and its field with the same value. */
  readonly to: { readonly level: number; readonly field: string }
  /** Whether the step leads to one record at most. */
  readonly one: boolean
  readonly where: Condition
  /**
   * Of a step to one record: goes on from there to the record that this field leads to, in the same table, and on, until
   * there is none, or one that was passed before. Some record of this chain then has to meet `where`.
   */
  readonly chain?: string
  /** What each record of a chain has to meet, or the chain ends before it. */
  readonly through?: Condition
}

/** A condition as plain data: what ties, grants and denies are made of. Its logic is two-valued. */
export type Condition =
  | { readonly kind: 'always' }
  | { readonly kind: 'never' }
  | { readonly kind: 'all'; readonly of: readonly Condition[] }
  | { readonly kind: 'any'; readonly of: readonly Condition[] }
  | { readonly kind: 'not'; readonly of: Condition }
  | { readonly kind: 'isSet'; readonly operand: Operand }
  | { readonly kind: 'signedIn' }
  | { readonly kind: 'role'; readonly anyOf: readonly string[]; readonly standing?: string }
  | { readonly kind: 'channel'; readonly anyOf: readonly string[] }
  | { readonly kind: 'may'; readonly level: number; readonly table: string; readonly action: string }
  | { readonly kind: 'after'; readonly of: Condition }
  | { readonly kind: 'unchanged'; readonly field: string }
  | Compare
  | Some

/** True of every record and caller. */
export const always: Condition = Object.freeze({ kind: 'always' })

/** True of none. */
export const never: Condition = Object.freeze({ kind: 'never' })

declare const ABOUT: unique symbol

/** A condition that the caller alone decides, whatever the record: it can be granted to like a tie. */
export type CallerCondition = Condition & { readonly [ABOUT]: 'caller' }

/** True where every condition is. */
export const allOf = (...of: readonly Condition[]): Condition => ({ kind: 'all', of })

/** True where at least one condition is. */
export const anyOf = (...of: readonly Condition[]): Condition => ({ kind: 'any', of })

/** True where the condition is false, also where it is false because a value is missing. */
export const notOf = (of: Condition): Condition => ({ kind: 'not', of })

/** Asks the condition of the record as it will be, instead of as it is; every other record stays as stored. */
export const after = (of: Condition): Condition => ({ kind: 'after', of })

/** True where the change leaves this field of the record exactly as it is. */
export const unchanged = (field: string): Condition => ({ kind: 'unchanged', field })
