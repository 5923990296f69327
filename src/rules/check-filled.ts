import { type Condition, contains, operandsOf, RuleError } from '../condition/index.js'
import { fieldOf, tableOf } from '../model/index.js'
import { at } from './at.js'
import { changePermission, createPermission } from './change.js'
import { ACTIONS, changesRecord, type Rulebook, rulesOf, stampsFor } from './rulebook.js'

/**
 * Checks that no rule for a write looks at a value that only the database will know: what was decided before the write
 * would not be what is stored.
 *
 * @throws {RuleError} where one does
 */
export function checkFilled(rulebook: Rulebook, table: string): void {
  const all = Object.keys(tableOf(rulebook.model, table).fields)
  const filledBy = (how: string) => all.filter((name) => fieldOf(rulebook.model, table, name).filled === how)
  const [computed, byDefault] = [filledBy('computed'), filledBy('default')]
  const rules = rulesOf(rulebook, table)
  const isGiven = (name: string) =>
    Object.hasOwn(stampsFor(rules, 'create'), name) || rules.checks.fields[name]?.onCreate === 'required'
  for (const name of [...computed, ...byDefault.filter((each) => !isGiven(each))]) {
    const others = all.filter((each) => each !== name && !computed.includes(each))
    at(`${table} create`, () => {
      if (looksAt(createPermission(rulebook, table, others), name)) throw unknown(table, name, computed)
    })
  }
  const changing = [...ACTIONS, ...rules.actions].filter((action) => changesRecord(rules, action))
  for (const name of computed) {
    for (const action of changing) {
      const given = all.filter((each) => !computed.includes(each))
      const whole = changePermission(rulebook, table, action, given)
      at(`${table} ${action}`, () => {
        if (contains(whole, (part) => part.kind === 'after' && looksAt(part.of, name)))
          throw unknown(table, name, computed)
      })
    }
  }
}

const looksAt = (condition: Condition, name: string): boolean =>
  contains(condition, (part) =>
    operandsOf(part).some((each) => each.kind === 'field' && each.level === 0 && each.name === name),
  )

function unknown(table: string, name: string, computed: readonly string[]): RuleError {
  return new RuleError(
    computed.includes(name)
      ? `what ${table}.${name} will be, the database computes, and only once the record is written; ` +
          'ask for the fields it is computed from, or say with after what has to hold then.'
      : `what ${table}.${name} will be where none is given, only the database knows; ` +
          'stamp it, or require it with a check.',
  )
}
