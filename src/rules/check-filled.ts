import { type Condition, contains, operandsOf, RuleError } from '../condition/index.js'
import { tableOf } from '../model/index.js'
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
  const rules = rulesOf(rulebook, table)
  const fields = Object.entries(tableOf(rulebook.model, table).fields)
  const filledBy = (how: string) => fields.flatMap(([name, { filled }]) => (filled === how ? [name] : []))
  const [computed, byDefault] = [filledBy('computed'), filledBy('default')]
  const isSure = (name: string) =>
    Object.hasOwn(stampsFor(rules, 'create'), name) || rules.checks.fields[name]?.onCreate === 'required'
  const unknown = [...computed, ...byDefault.filter((name) => !isSure(name))]
  if (unknown.length === 0) return
  // One by one: where one may not be given, nothing else is asked, and what is asked of several is asked of each.
  const givens = [[], ...fields.flatMap(([name]) => (computed.includes(name) ? [] : [[name]]))]
  for (const given of givens) {
    const condition = createPermission(rulebook, table, given)
    const found = unknown.find((name) => !given.includes(name) && looksAt(condition, name))
    if (found !== undefined) at(`${table} create`, () => refuse(table, found, computed))
  }
  for (const action of computed.length > 0 ? [...ACTIONS, ...rules.actions] : []) {
    if (!changesRecord(rules, action)) continue
    for (const given of givens) {
      const whole = changePermission(rulebook, table, action, given)
      const found = computed.find((name) => contains(whole, (part) => foresees(part, name)))
      if (found !== undefined) at(`${table} ${action}`, () => refuse(table, found, computed))
    }
  }
}

/** Whether it asks how a change makes a field. */
const foresees = (part: Condition, name: string): boolean =>
  part.kind === 'unchanged' ? part.field === name : part.kind === 'after' && looksAt(part.of, name)

const looksAt = (condition: Condition, name: string): boolean =>
  contains(condition, (part) =>
    operandsOf(part).some((each) => each.kind === 'field' && each.level === 0 && each.name === name),
  )

function refuse(table: string, name: string, computed: readonly string[]): never {
  throw new RuleError(
    computed.includes(name)
      ? `what ${table}.${name} will be, the database computes, and only once the record is written; ` +
          'ask for the fields it is computed from, or say with after what has to hold then.'
      : `what ${table}.${name} will be where none is given, only the database knows; ` +
          'stamp it, or require it with a check.',
  )
}
