import { all, always, type Condition, type Operand, shift } from '../condition/index.js'
import { tableOf } from '../model/index.js'
import { fieldSight } from './permission.js'
import { covers, grantsFor, type Rulebook, rulesOf } from './rulebook.js'

/**
 * A condition of somebody who asks, made safe: a field that is hidden from the caller counts as missing, and
 * records of other tables that the caller may not list are not there. Otherwise asking would tell what is hidden.
 *
 * @param tables the tables by level; the last is the one the condition is about
 */
export function asSeen(rulebook: Rulebook, condition: Condition, tables: readonly string[]): Condition {
  const inside = (each: Condition) => asSeen(rulebook, each, tables)
  switch (condition.kind) {
    case 'all':
    case 'any':
      return { ...condition, of: condition.of.map(inside) }
    case 'not':
      return { ...condition, of: inside(condition.of) }
    case 'isSet':
      return all(sightOfOperand(rulebook, condition.operand, tables), condition)
    case 'compare':
      return all(...[condition.left, condition.right].map((each) => sightOfOperand(rulebook, each, tables)), condition)
    case 'some': {
      const { table, from, to, where } = condition
      const deeper = [...tables.slice(0, to.level)]
      deeper[to.level] = table
      const seen = all(
        { kind: 'may', level: to.level, table, action: 'list' },
        sightAt(rulebook, table, to.field, to.level),
        asSeen(rulebook, where, deeper),
      )
      return all(sightOfOperand(rulebook, from, tables), { ...condition, where: seen })
    }
    default:
      return condition
  }
}

function sightOfOperand(rulebook: Rulebook, operand: Operand, tables: readonly string[]): Condition {
  if (operand.kind !== 'field') return always
  return sightAt(rulebook, tables[operand.level] as string, operand.name, operand.level)
}

/** When a field is seen of a record that may be listed. */
function sightAt(rulebook: Rulebook, table: string, field: string, level: number): Condition {
  const grants = grantsFor(rulesOf(rulebook, table), 'list')
  const isKey = tableOf(rulebook.model, table).key.includes(field)
  if (isKey || grants.every((grant) => covers(grant, field))) return always
  return shift(fieldSight(rulebook, table, field, 'list'), level)
}
