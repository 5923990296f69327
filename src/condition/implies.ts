import { COMPARED, sameData } from './normalise.js'
import type { Condition } from './tree.js'

/**
 * Whether of every record that a condition holds of, another one holds as well, as far as their shapes tell: a yes is
 * sure, a no may mean that it was not found out.
 *
 * @param condition normalised, as is `other`
 */
export function implies(condition: Condition, other: Condition): boolean {
  if (condition.kind === 'never' || other.kind === 'always' || sameData(condition, other)) return true
  if (isWide(condition) || isWide(other)) return false
  if (condition.kind === 'any') return condition.of.every((branch) => implies(branch, other))
  if (other.kind === 'all') return other.of.every((part) => implies(condition, part))
  return (
    (condition.kind === 'all' && condition.of.some((part) => implies(part, other))) ||
    (other.kind === 'any' && other.of.some((branch) => implies(condition, branch)))
  )
}

const isWide = (condition: Condition): boolean =>
  (condition.kind === 'all' || condition.kind === 'any') && condition.of.length > COMPARED
