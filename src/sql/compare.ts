import type { Comparison } from '../condition/index.js'
import type { Shape } from '../model/index.js'
import { edgeOf, type Fragment, isSlot, raw, sql } from './fragment.js'

/** A piece of SQL and the type of its value. */
export interface TypedFragment {
  readonly text: Fragment
  readonly shape: Shape
  /** Whether the column itself equals a value, as an index finds it, where `text` makes it compare exactly. */
  search?(value: Fragment): Fragment
}

/** The SQL of each comparison of two values that may be missing: a comparison that is not here does not compile. */
export type Comparisons = Readonly<Record<Comparison, (left: TypedFragment, right: TypedFragment) => Fragment>>

/** What has to be known of a dialect here. */
interface Compares {
  /** Whether two values are equal, exactly, and both present. */
  equal(left: Fragment, right: Fragment, shape: Shape): Fragment
  /** A stored moment cut to the millisecond, as values have it. */
  instant(moment: Fragment): Fragment
}

const SIGNS = { is: '=', below: '<', atMost: '<=', above: '>', atLeast: '>=' } as const satisfies Partial<
  Record<Comparison, string>
>

/** The comparisons that are an operator. */
export type SignedComparison = keyof typeof SIGNS

/** The same comparison from the other side. */
const FLIPPED: Readonly<Record<SignedComparison, SignedComparison>> = {
  is: 'is',
  below: 'above',
  above: 'below',
  atMost: 'atLeast',
  atLeast: 'atMost',
}

/** Equality and order, which databases write alike. */
export const signed = (dialect: Compares): Pick<Comparisons, SignedComparison> => ({
  is: (left, right) => compileEqual(dialect, left, right),
  below: (left, right) => ordered(dialect, 'below', left, right),
  atMost: (left, right) => ordered(dialect, 'atMost', left, right),
  above: (left, right) => ordered(dialect, 'above', left, right),
  atLeast: (left, right) => ordered(dialect, 'atLeast', left, right),
})

function ordered(dialect: Compares, how: SignedComparison, left: TypedFragment, right: TypedFragment): Fragment {
  return left.shape.type === 'timestamp'
    ? compareMoments(dialect, how, left.text, right.text)
    : sql`${left.text} ${raw(SIGNS[how])} ${right.text}`
}

/** Whether two values are equal, exactly, and both present. */
export function compileEqual(dialect: Compares, left: TypedFragment, right: TypedFragment): Fragment {
  if (left.shape.type === 'timestamp') return compareMoments(dialect, 'is', left.text, right.text)
  const exactly = dialect.equal(left.text, right.text, left.shape)
  // What the column's own order holds to be equal is found through its index, and then looked at exactly.
  if (left.search && isSlot(right.text)) return sql`(${left.search(right.text)} AND ${exactly})`
  if (right.search && isSlot(left.text)) return sql`(${right.search(left.text)} AND ${exactly})`
  return exactly
}

/**
 * Compares moments by the millisecond, as values have them, where a database may have them finer: with a value, a column
 * is compared as it is, so that its index serves.
 */
function compareMoments(dialect: Compares, how: SignedComparison, left: Fragment, right: Fragment): Fragment {
  if (isSlot(left) && !isSlot(right)) return compareMoments(dialect, FLIPPED[how], right, left)
  if (isSlot(right) && !isSlot(left)) {
    const [first, last] = [edgeOf(right, 'first'), edgeOf(right, 'last')]
    if (how === 'is') return sql`(${left} >= ${first} AND ${left} <= ${last})`
    return sql`${left} ${raw(SIGNS[how])} ${how === 'below' || how === 'atLeast' ? first : last}`
  }
  const cut = (moment: Fragment) => (isSlot(moment) ? moment : dialect.instant(moment))
  return sql`${cut(left)} ${raw(SIGNS[how])} ${cut(right)}`
}

/** Compares what is sorted by: in the column's own order, which is the one its index is in. */
export function compareInOrder(
  dialect: Compares,
  how: SignedComparison,
  left: Fragment,
  right: Fragment,
  shape: Shape,
): Fragment {
  return shape.type === 'timestamp'
    ? compareMoments(dialect, how, left, right)
    : sql`${left} ${raw(SIGNS[how])} ${right}`
}
