import type { Condition, Operand } from './tree.js'

/** The same condition with other operands. */
export function mapOperands(condition: Condition, change: (operand: Operand) => Operand): Condition {
  return rebuild(condition, change, 0)
}

/** Moves a condition about level 0 so that it is about a deeper level; its own steps go deeper with it. */
export function shift(condition: Condition, by: number): Condition {
  if (by === 0) return condition
  return rebuild(condition, (each) => (each.kind === 'field' ? { ...each, level: each.level + by } : each), by)
}

function rebuild(condition: Condition, change: (operand: Operand) => Operand, by: number): Condition {
  switch (condition.kind) {
    case 'all':
    case 'any':
      return { ...condition, of: condition.of.map((part) => rebuild(part, change, by)) }
    case 'not':
    case 'after':
      return { ...condition, of: rebuild(condition.of, change, by) }
    case 'isSet':
      return { ...condition, operand: change(condition.operand) }
    case 'compare':
      return { ...condition, left: change(condition.left), right: change(condition.right) }
    case 'some': {
      const { from, to, where } = condition
      return {
        ...condition,
        from: change(from),
        to: { ...to, level: to.level + by },
        where: rebuild(where, change, by),
      }
    }
    default:
      return condition
  }
}
