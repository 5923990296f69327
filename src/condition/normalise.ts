import { rewrite } from './grammar.js'
import { always, type Condition, never, notOf } from './tree.js'

/**
 * Brings a condition into its smallest equivalent shape: negation pushed down to the leaves, constants
 * folded away, nested `all` and `any` flattened, repeated parts dropped.
 *
 * @param condition any condition
 * @param replace what stands for a leaf, or for a whole `some`; left out, itself
 */
export function normalise(condition: Condition, replace: (leaf: Condition) => Condition = (leaf) => leaf): Condition {
  return walk(condition, replace, false)
}

function walk(condition: Condition, replace: (leaf: Condition) => Condition, negated: boolean): Condition {
  switch (condition.kind) {
    case 'always':
    case 'never':
      return (condition.kind === 'always') === negated ? never : always
    case 'not':
      return walk(condition.of, replace, !negated)
    case 'all':
    case 'any':
      return combine(
        (condition.kind === 'all') === negated ? 'any' : 'all',
        condition.of.map((part) => walk(part, replace, negated)),
      )
    case 'after':
      return afterwards(walk(condition.of, replace, negated))
    case 'some': {
      const replaced = replace(condition)
      if (replaced !== condition) return walk(replaced, (same) => same, negated)
      const where = walk(condition.where, replace, false)
      const { through: passing, ...step } = condition
      const through = passing ? walk(passing, replace, false) : always
      if (where.kind === 'never' || through.kind === 'never') return negate(never, negated)
      return negate({ ...step, where, ...(through.kind !== 'always' && { through }) }, negated)
    }
    case 'isSet':
    case 'compare':
    case 'signedIn':
    case 'role':
    case 'channel':
    case 'may':
    case 'unchanged': {
      const leaf = replace(condition)
      return leaf === condition ? negate(leaf, negated) : walk(leaf, (same) => same, negated)
    }
  }
}

/** Asks each leaf of the record as it will be. Whether a field changes is asked of the change, not of its outcome. */
function afterwards(condition: Condition): Condition {
  switch (condition.kind) {
    case 'all':
    case 'any':
    case 'not':
      return rewrite(condition, { part: afterwards })
    case 'always':
    case 'never':
    case 'unchanged':
    case 'after':
      return condition
    case 'isSet':
    case 'compare':
    case 'some':
    case 'signedIn':
    case 'role':
    case 'channel':
    case 'may':
      return { kind: 'after', of: condition }
  }
}

function negate(leaf: Condition, negated: boolean): Condition {
  if (!negated) return leaf
  return leaf.kind === 'never' ? always : notOf(leaf)
}

function combine(kind: 'all' | 'any', parts: readonly Condition[]): Condition {
  const [neutral, decisive] = kind === 'all' ? [always, never] : [never, always]
  const kept: Condition[] = []
  for (const part of parts.flatMap((each) => (each.kind === kind ? each.of : [each]))) {
    if (part.kind === decisive.kind) return decisive
    if (part.kind !== neutral.kind && !isAmong(part, kept)) kept.push(part)
  }
  const wide = kept.length > COMPARED ? kept : kept.filter((part) => !isAbsorbed(kind, part, kept))
  const [first, ...more] = wide
  if (!first) return neutral
  return more.length === 0 ? first : { kind, of: wide }
}

/** A and (A or B) is A; A or (A and B) is A. */
function isAbsorbed(kind: 'all' | 'any', part: Condition, others: readonly Condition[]): boolean {
  if (part.kind !== (kind === 'all' ? 'any' : 'all')) return false
  const { of } = part
  return of.length <= COMPARED && others.some((other) => other !== part && isAmong(other, of))
}

/** More parts than people write are not compared each with each; a repeated one does no harm. */
export const COMPARED = 32

const isAmong = (part: Condition, kept: readonly Condition[]): boolean =>
  kept.length <= COMPARED && kept.some((each) => sameData(each, part))

export function sameData(left: unknown, right: unknown): boolean {
  if (left === right) return true
  if (typeof left !== 'object' || typeof right !== 'object' || left === null || right === null) return false
  if (Array.isArray(left) !== Array.isArray(right)) return false
  const names = Object.keys(left)
  return (
    names.length === Object.keys(right).length &&
    names.every((name) => sameData((left as Record<string, unknown>)[name], (right as Record<string, unknown>)[name]))
  )
}
