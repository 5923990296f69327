import { comparesAs, isOrdered, isNever, rankOf, sameValue, type Shape, type Value } from '../model/index.js'

/** The ways two operands can be compared. */
export const COMPARISONS = [
  'is',
  'below',
  'atMost',
  'above',
  'atLeast',
  'startsWith',
  'in',
  'overlaps',
  'includesAll',
] as const

/** How two operands are compared. A missing operand makes any of them false. */
export type Comparison = (typeof COMPARISONS)[number]

/** Everything about a comparison but its SQL, which each dialect has. It is asked only of values of shapes that fit. */
interface Behaviour {
  /** What stands between the operands, and what stands there where it is negated. */
  readonly words: readonly [plain: string, negated: string]
  /** Whether values of these shapes can be compared so. */
  fits(left: Shape, right: Shape): boolean
  /** Whether it holds of two values that are there. */
  holds(left: Value, right: Value): boolean
}

type Items = readonly Value[]

const isList = ({ type }: Shape): boolean => type === 'list'
const itemOf = ({ item = 'text' }: Shape): string => item

const isOneKind = (left: Shape, right: Shape): boolean =>
  !isList(left) && !isNever(left, 'compared') && comparesAs(left) === comparesAs(right)
const areOrdered = (left: Shape, right: Shape): boolean => isOrdered(left) && isOneKind(left, right)
const areLists = (left: Shape, right: Shape): boolean => isList(left) && isList(right) && itemOf(left) === itemOf(right)

const COMPARING: Readonly<Record<Comparison, Behaviour>> = {
  is: { words: ['is', 'is not'], fits: isOneKind, holds: sameValue },
  below: {
    words: ['is below', 'is not below'],
    fits: areOrdered,
    holds: (left, right) => rankOf(left) < rankOf(right),
  },
  atMost: {
    words: ['is at most', 'is not at most'],
    fits: areOrdered,
    holds: (left, right) => rankOf(left) <= rankOf(right),
  },
  above: {
    words: ['is above', 'is not above'],
    fits: areOrdered,
    holds: (left, right) => rankOf(left) > rankOf(right),
  },
  atLeast: {
    words: ['is at least', 'is not at least'],
    fits: areOrdered,
    holds: (left, right) => rankOf(left) >= rankOf(right),
  },
  startsWith: {
    words: ['starts with', 'does not start with'],
    fits: (left, right) => comparesAs(left) === 'text' && comparesAs(right) === 'text',
    holds: (left: string, right: string) => left.startsWith(right),
  },
  // One value is an item of a list.
  in: {
    words: ['is one of', 'is not one of'],
    fits: (left, right) => !isList(left) && isList(right) && comparesAs(left) === itemOf(right),
    holds: (left, right: Items) => right.includes(left),
  },
  // Two lists have an item in common.
  overlaps: {
    words: ['includes any of', 'includes none of'],
    fits: areLists,
    holds: (left: Items, right: Items) => right.some((item) => left.includes(item)),
  },
  // The left list has every item of the right one.
  includesAll: {
    words: ['includes all of', 'does not include all of'],
    fits: areLists,
    holds: (left: Items, right: Items) => right.every((item) => left.includes(item)),
  },
}

/** The words a comparison is printed with. */
export const wordsOf = (how: Comparison): Behaviour['words'] => COMPARING[how].words

/** Whether values of these shapes can be compared so. */
export const isComparable = (how: Comparison, left: Shape, right: Shape): boolean =>
  Object.hasOwn(COMPARING, how) && COMPARING[how].fits(left, right)

/** Whether a comparison of two values holds; with a missing one, none does. */
export const compareValues = (how: Comparison, left: unknown, right: unknown): boolean =>
  left !== null &&
  left !== undefined &&
  right !== null &&
  right !== undefined &&
  COMPARING[how].holds(left as Value, right as Value)
