import { all, always, any, type Condition, never, not } from './tree.js'

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
    case 'after': {
      const of = walk(condition.of, replace, negated)
      return of.kind === 'always' || of.kind === 'never' ? of : { kind: 'after', of }
    }
    case 'some': {
      const replaced = replace(condition)
      if (replaced !== condition) return walk(replaced, (same) => same, negated)
      const where = walk(condition.where, replace, false)
      return negate(where.kind === 'never' ? never : { ...condition, where }, negated)
    }
    default: {
      const leaf = replace(condition)
      return leaf === condition ? negate(leaf, negated) : walk(leaf, (same) => same, negated)
    }
  }
}

function negate(leaf: Condition, negated: boolean): Condition {
  if (!negated) return leaf
  return leaf.kind === 'never' ? always : not(leaf)
}

function combine(kind: 'all' | 'any', parts: readonly Condition[]): Condition {
  const [neutral, decisive] = kind === 'all' ? [always, never] : [never, always]
  const flat = parts.flatMap((part) => (part.kind === kind ? part.of : [part]))
  if (flat.some((part) => part.kind === decisive.kind)) return decisive
  const kept = new Map<string, Condition>()
  for (const part of flat) if (part.kind !== neutral.kind) kept.set(JSON.stringify(part), part)
  const [first, ...more] = kept.values()
  if (!first) return neutral
  return more.length === 0 ? first : kind === 'all' ? all(...kept.values()) : any(...kept.values())
}
